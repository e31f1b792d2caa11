"""Several paired differences judged together, so that the largest may be picked from them."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from magnetite.core.analysis.statistics import beyond_rounding
from magnetite.core.arrays import Float64

#: Draws of the largest statistic: at most, at least, and numbers held at a time.
_DRAWS, _FEWEST, _HELD = 20_000, 2_000, 2**24
_LEVEL = 0.05


class Difference(NamedTuple):
    """A mean difference; its ends hold at 95 % together with those of all the others."""

    mean: float
    low: float
    high: float
    #: Chance of a largest statistic like this one under the null hypothesis.
    p: float


def simultaneous(values: Float64, contrasts: Float64) -> list[Difference]:
    """Mean differences of treatments over references, with intervals that hold together.

    The statistic of a contrast is Student's t of its values over the references. Its critical
    value is the 95 % point of the largest `|t|` of all contrasts, for treatments of equal
    variance around the reference's own level, by simulation with a fixed seed (Tukey's range, of
    which each difference has a standard error of its own; Hochberg and Tamhane, Multiple
    Comparison Procedures, 1987, chapter 7). Interval and p come from the same draws: an interval
    excludes 0 where p is below 5 %. A single contrast has Student's own interval and p.
    Differences of the size of rounding count as 0.

    Parameters
    ----------
    values : float array, shape (n, k)
        A row for each reference, a column for each treatment; finite.
    contrasts : float array, shape (m, k)
        Weights of the treatments in each difference; of one or two treatments where m > 1.

    Returns
    -------
    list of Difference
        Of m entries; ends and p are NaN for fewer than two references.

    Raises
    ------
    ValueError
        If one of several differences is of more than two treatments.
    """
    from scipy.special import stdtr

    number = len(values)
    differences = beyond_rounding(values @ contrasts.T, values)
    means = differences.mean(axis=0)
    if number < 2:
        return [Difference(float(mean), math.nan, math.nan, math.nan) for mean in means]
    errors = differences.std(axis=0, ddof=1) / math.sqrt(number)
    statistics = np.array(
        [
            abs(m) / e if e > 0 else math.inf if m else 0.0
            for m, e in zip(means, errors, strict=True)
        ]
    )
    critical = critical_value(number, contrasts)
    if len(contrasts) == 1:
        chances = 2 * stdtr(number - 1, -statistics)
    else:
        largest = _largest_of(number, contrasts)
        above = largest.size - np.searchsorted(largest, statistics)
        chances = (above + 1) / (largest.size + 1)
    return [
        Difference(float(m), float(m - critical * e), float(m + critical * e), float(p))
        for m, e, p in zip(means, errors, chances, strict=True)
    ]


def critical_value(number: int, contrasts: Float64) -> float:
    """The 95 % point of the largest `|t|` of contrasts (m, k), over two references or more."""
    from scipy.special import stdtrit

    if len(contrasts) == 1:
        return float(stdtrit(number - 1, 1 - _LEVEL / 2))
    largest = _largest_of(number, contrasts)
    return float(largest[math.ceil((1 - _LEVEL) * (largest.size + 1)) - 1])


def pairwise(treatments: int) -> Float64:
    """Contrasts of every later treatment with every earlier one, shape (k (k - 1) / 2, k)."""
    earlier, later = np.triu_indices(treatments, 1)
    unit = np.eye(treatments)
    return unit[later] - unit[earlier]


def _largest_of(number: int, contrasts: Float64) -> Float64:
    weights = np.ascontiguousarray(contrasts, np.float64)
    return _largest(number, weights.tobytes(), contrasts.shape[1])


@lru_cache(maxsize=64)
def _largest(number: int, weights: bytes, treatments: int) -> Float64:
    """Sorted draws of the largest |t| of all contrasts where no treatment differs.

    The mean of n normal rows and the sum of squares about it are independent. The sum of squares
    of k treatments is drawn as that of n - 1 rows of k normal values, or of the k rows of
    Bartlett's triangle where these are fewer.
    """
    contrasts = np.frombuffer(weights).reshape(-1, treatments)
    rng = np.random.default_rng(0)
    rows = min(number - 1, treatments)
    draws = min(max(_HELD * 16 // (contrasts.size * rows), _FEWEST), _DRAWS)
    batch = max(1, _HELD // (len(contrasts) * rows))
    parts = [
        _drawn(rng, contrasts, number - 1, min(batch, draws - k)) for k in range(0, draws, batch)
    ]
    return np.sort(np.concatenate(parts))


def _drawn(rng: np.random.Generator, contrasts: Float64, freedom: int, draws: int) -> Float64:
    treatments = contrasts.shape[1]
    means = rng.standard_normal((draws, treatments)) @ contrasts.T
    rows = rng.standard_normal((draws, min(freedom, treatments), treatments))
    if freedom >= treatments:
        rows = np.triu(rows, 1)
        diagonal = np.sqrt(rng.chisquare(freedom - np.arange(treatments), (draws, treatments)))
        rows[:, np.arange(treatments), np.arange(treatments)] = diagonal
    spreads = np.sqrt(_squares(np.swapaxes(rows, 1, 2) @ rows, contrasts))
    return np.asarray((np.abs(means) / spreads).max(axis=1) * math.sqrt(freedom))


def _squares(products: Float64, contrasts: Float64) -> Float64:
    """Sums of squares, shape (d, m), of contrasts of one or two treatments.

    `products` are the sums of products of all treatments, shape (d, k, k).
    """
    if np.count_nonzero(contrasts, axis=1).max() > 2:
        raise ValueError("several differences are judged together where each is of two treatments")
    first, second = np.argsort(-np.abs(contrasts), axis=1)[:, :2].T
    number = np.arange(len(contrasts))
    one, two = contrasts[number, first], contrasts[number, second]
    own = one**2 * products[:, first, first] + two**2 * products[:, second, second]
    # Of values that are nearly equal the sum may round to below 0.
    squares = own + 2 * one * two * products[:, first, second]
    return np.asarray(np.maximum(squares, np.finfo(float).tiny))
