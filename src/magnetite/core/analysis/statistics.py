"""Intervals, tests and ranks: references are the units, repeats are nested in them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from magnetite.core.arrays import Float64


class Interval(NamedTuple):
    """A mean and its 95 % interval; NaN where the spread is not known."""

    mean: float
    low: float
    high: float
    #: Values that the interval is over.
    number: int


def interval(values: Sequence[float]) -> Interval:
    """`mean ± t sd / √n`, t of Student's law with n - 1 degrees of freedom."""
    from scipy.special import stdtrit

    known = np.asarray(values, float)
    mean = float(known.mean())
    if known.size < 2 or not np.isfinite(known).all():
        return Interval(mean, math.nan, math.nan, known.size)
    reach = float(stdtrit(known.size - 1, 0.975)) * float(known.std(ddof=1)) / math.sqrt(known.size)
    return Interval(mean, mean - reach, mean + reach, known.size)


def nested_interval(groups: Sequence[Sequence[float]]) -> Interval:
    """Interval of the mean over references, each the mean of its repeats.

    It covers the variance between references and, through their means, that of the repeats: it is
    about other references of the kind, each measured as often. Of one reference alone it is over
    its repeats, and about other seeds on it.
    """
    if len(groups) == 1:
        return interval(groups[0])
    return interval([float(np.mean(group)) for group in groups])


class Difference(NamedTuple):
    """Paired differences of two treatments over references."""

    mean: float
    low: float
    high: float
    #: Chance of a difference so large where there is none, not corrected.
    p: float


def paired(one: Sequence[float], two: Sequence[float]) -> Difference:
    """Mean of `one - two`, pair by pair, with its interval and Student's two-sided p."""
    from scipy.special import stdtr

    differences = np.asarray(one, float) - np.asarray(two, float)
    found = interval(differences.tolist())
    spread = float(differences.std(ddof=1)) if differences.size > 1 else math.nan
    if not spread > 0:
        return Difference(found.mean, found.low, found.high, math.nan if spread != 0 else
                          (1.0 if found.mean == 0 else 0.0))  # fmt: skip
    t = abs(found.mean) / (spread / math.sqrt(differences.size))
    return Difference(found.mean, found.low, found.high, 2 * float(stdtr(differences.size - 1, -t)))


def holm(chances: Sequence[float]) -> list[float]:
    """Chances corrected for their number (Holm, Scandinavian J. Statistics 6(2), 1979).

    The k-th smallest of n is multiplied by n - k + 1, made to rise, and cut at 1; NaN stays.
    """
    known = [k for k, p in enumerate(chances) if not math.isnan(p)]
    corrected = list(chances)
    largest = 0.0
    for rank, k in enumerate(sorted(known, key=lambda k: chances[k])):
        largest = max(largest, (len(known) - rank) * chances[k])
        corrected[k] = min(1.0, largest)
    return corrected


def spearman(one: Sequence[float], two: Sequence[float]) -> float:
    """Rank correlation, ties by their mean rank; NaN where one side is constant."""
    x, y = (ranks(np.asarray(values, float)) for values in (one, two))
    if x.std() == 0 or y.std() == 0:
        return math.nan
    return float(np.corrcoef(x, y)[0, 1])


def ranks(values: Float64) -> Float64:
    """Places of values in their order, from 1; equal ones share the mean of theirs."""
    _, inverse, counts = np.unique(values, return_inverse=True, return_counts=True)
    last = np.cumsum(counts)
    return np.asarray((last - (counts - 1) / 2)[inverse])
