"""Quantizer of least squared error for a given picture."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float64, Pixels

#: Number of bins for float samples that take more values than this.
MOST_VALUES = 2**16
_MOST_ROUNDS = 5000
_SETTLED = 1e-7


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
    levels = _optimal_levels(values, weights, count).astype(plane.dtype)
    cells = np.searchsorted((levels[1:] + levels[:-1]) / 2, plane)
    return np.asarray(levels[cells])


def _histogram(plane: Pixels) -> tuple[Float64, Float64]:
    values, counts = np.unique(plane, return_counts=True)
    if values.size > MOST_VALUES:
        counts, edges = np.histogram(plane, bins=MOST_VALUES)
        values = (edges[1:] + edges[:-1]) / 2
        values, counts = values[counts > 0], counts[counts > 0]
    return values.astype(np.float64), counts.astype(np.float64)


def _optimal_levels(values: Float64, weights: Float64, count: int) -> Float64:
    mass = np.concatenate([[0.0], np.cumsum(weights)])
    moment = np.concatenate([[0.0], np.cumsum(weights * values)])
    # Start as dense as the cube root of the histogram, which is right for many levels (Panter
    # and Dite 1951), on distinct values.
    density = np.cumsum(np.cbrt(weights))
    number = np.arange(count)
    place = np.searchsorted(density, (number + 0.5) / count * density[-1])
    place = np.maximum.accumulate(place - number) + number
    levels: Float64 = values[np.minimum(place, values.size - count + number)]
    for _ in range(_MOST_ROUNDS):
        borders = np.searchsorted(values, (levels[1:] + levels[:-1]) / 2)
        ends = np.concatenate([[0], borders, [values.size]])
        held = np.diff(mass[ends])
        before = levels.copy()
        np.divide(np.diff(moment[ends]), held, out=levels, where=held > 0)
        if np.abs(levels - before).max() < _SETTLED:
            break
    return levels
