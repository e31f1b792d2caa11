"""Quantizer levels for the histogram of a picture: the optimum, and Lloyd's."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float64, Indices, Pixels

#: Number of bins for float samples that take more values than this.
MOST_VALUES = 2**16
#: Lowest price of a cell, of the whole squared error, and how often prices are bisected.
_CHEAPEST, _BISECTIONS = 1e-18, 80
_MOST_ROUNDS = 5000
_SETTLED = 1e-7


def optimal(plane: Pixels, count: int) -> Pixels:
    """Replace each sample by the nearest of the `count` levels of least squared error.

    Cells of a histogram that cost the same for each cell beyond their squared error are found
    exactly (see `cheapest_path`); the price is bisected until there are `count` of them. Where no
    price gives that number, the beginning of a partition into fewer cells and the end of one into
    more are joined, which costs as little (Aggarwal, Schieber and Tokuyama, Discrete and
    Computational Geometry 12, 1994, doi:10.1007/BF02574380). Float samples with more than
    65,536 values are counted in 65,536 bins.
    """
    values, weights = _histogram(plane)
    if values.size <= count:
        return plane.copy()
    return _to_levels(plane, optimal_levels(values, weights, count))


def optimal_levels(values: Float64, weights: Float64, count: int) -> Float64:
    """Levels of least squared error for a histogram of more than `count` values."""
    centred = values - np.average(values, weights=weights)
    mass, moment, square = (
        np.concatenate([[0.0], np.cumsum(weights * centred**power)]) for power in (0, 1, 2)
    )
    ends = _partition(mass, moment, square, count)
    level = np.diff(moment[ends]) / np.diff(mass[ends])
    return np.asarray(level + np.average(values, weights=weights))


def _partition(mass: Float64, moment: Float64, square: Float64, count: int) -> Indices:
    """Ends of `count` cells."""
    from magnetite.core.degrade.kernels.partition import cheapest_path

    high = 2 * float(square[-1])
    low = high * _CHEAPEST
    few, many = (cheapest_path(mass, moment, square, price) for price in (high, low))
    for _ in range(_BISECTIONS):
        if count in (few.size - 1, many.size - 1):
            break
        price = float(np.sqrt(low * high))
        path = cheapest_path(mass, moment, square, price)
        if path.size - 1 <= count:
            few, high = path, price
        else:
            many, low = path, price
    if many.size - 1 == count:
        return many
    return few if few.size - 1 == count else _joined(few, many, count)


def _joined(few: Indices, many: Indices, count: int) -> Indices:
    """The beginning of one partition and the end of another, `count` cells in all."""
    extra = many.size - 1 - count
    for k in range(few.size - 1):
        if few[k] <= many[k + extra] and many[k + extra + 1] <= few[k + 1]:
            return np.concatenate([few[: k + 1], many[k + extra + 1 :]])
    raise AssertionError("partitions of like cost do not cross")


def lloyd_max(plane: Pixels, count: int) -> Pixels:
    """Replace each sample by the nearest of `count` levels, placed by Lloyd's method.

    Levels and decision points take turns: a decision point lies midway between two levels, a
    level is the mean of the samples between two decision points, until neither moves. That is
    a local optimum.

    Lloyd, IEEE Trans. Information Theory 28(2), 1982, doi:10.1109/TIT.1982.1056489; Max, IRE
    Trans. Information Theory 6(1), 1960, doi:10.1109/TIT.1960.1057548.
    """
    values, weights = _histogram(plane)
    if values.size <= count:
        return plane.copy()
    return _to_levels(plane, _settled_levels(values, weights, count))


def _to_levels(plane: Pixels, levels: Float64) -> Pixels:
    kept = levels.astype(plane.dtype)
    return np.asarray(kept[np.searchsorted((kept[1:] + kept[:-1]) / 2, plane)])


def _histogram(plane: Pixels) -> tuple[Float64, Float64]:
    values, counts = np.unique(plane, return_counts=True)
    if values.size > MOST_VALUES:
        counts, edges = np.histogram(plane, bins=MOST_VALUES)
        values = (edges[1:] + edges[:-1]) / 2
        values, counts = values[counts > 0], counts[counts > 0]
    return values.astype(np.float64), counts.astype(np.float64)


def _settled_levels(values: Float64, weights: Float64, count: int) -> Float64:
    mass = np.concatenate([[0.0], np.cumsum(weights)])
    moment = np.concatenate([[0.0], np.cumsum(weights * values)])
    # Start as dense as the cube root of the histogram, which is right for many levels (Panter
    # and Dite 1951), on distinct values.
    density = np.cumsum(np.cbrt(weights))
    number = np.arange(count)
    position = np.searchsorted(density, (number + 0.5) / count * density[-1])
    position = np.maximum.accumulate(position - number) + number
    levels: Float64 = values[np.minimum(position, values.size - count + number)]
    for _ in range(_MOST_ROUNDS):
        borders = np.searchsorted(values, (levels[1:] + levels[:-1]) / 2)
        ends = np.concatenate([[0], borders, [values.size]])
        held = np.diff(mass[ends])
        before = levels.copy()
        np.divide(np.diff(moment[ends]), held, out=levels, where=held > 0)
        if np.abs(levels - before).max() < _SETTLED:
            break
    return levels
