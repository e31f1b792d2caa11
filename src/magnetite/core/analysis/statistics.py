"""Intervals, tests and ranks: references are the units, repeats are nested in them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from magnetite.core.arrays import Float64

#: Differences up to this share of the largest value may be those of rounding alone.
_ROUNDING = 1e-12
#: Values that the test of skewness needs, and its level.
_TESTED, _SKEWED = 8, 0.05


class Interval(NamedTuple):
    """A mean and its 95 % interval; NaN where the spread is not known."""

    mean: float
    low: float
    high: float
    #: Values that the interval is over.
    number: int


def interval(values: Sequence[float]) -> Interval:
    """Student's interval of a mean, `mean ± t sd / √n` with n - 1 degrees of freedom.

    Of eight values or more that D'Agostino's test of skewness (Biometrika 57(3), 1970,
    doi:10.1093/biomet/57.3.679) finds skewed at the 5 % level, the interval is Hall's (J. Royal
    Statistical Society B 54(1), 1992): Student's t is corrected for the skewness g by
    `u + g u² / 3 + g² u³ / 27 + g / (6 n)`, u = t / √n, whose inverse is used here. With fewer
    values skewness cannot be tested.
    """
    from scipy.special import stdtrit

    known = np.asarray(values, float)
    mean = float(known.mean())
    if known.size < 2 or not np.isfinite(known).all():
        return Interval(mean, math.nan, math.nan, known.size)
    spread = float(known.std(ddof=1))
    reach = float(stdtrit(known.size - 1, 0.975)) / math.sqrt(known.size)
    low, high = -reach, reach
    if skew := skewness(known):
        low, high = (_hall(u, skew, known.size) for u in (low, high))
    return Interval(mean, mean - high * spread, mean - low * spread, known.size)


def skewness(values: Float64) -> float:
    """Sample skewness `n / ((n - 1) (n - 2)) Σ ((x - mean) / sd)³` where it is significant; or 0.

    Of values of shape (n,), significant at the 5 % level by D'Agostino's test, which needs eight.
    """
    number = values.size
    if number < _TESTED or not np.ptp(values) > 0:
        return 0.0
    from scipy.stats import skewtest

    if not skewtest(values).pvalue < _SKEWED:
        return 0.0
    cubes = float((((values - values.mean()) / values.std(ddof=1)) ** 3).sum())
    return number / ((number - 1) * (number - 2)) * cubes


def _hall(u: float, skew: float, number: int) -> float:
    """The inverse of Hall's monotone transformation."""
    return 3 / skew * (math.cbrt(1 + skew * (u - skew / (6 * number))) - 1)


def beyond_rounding(differences: Float64, values: Float64) -> Float64:
    """Differences of values, of any shape, with 0 for those of the size of rounding.

    Equal treatments would otherwise differ by a fixed last digit, which a test finds significant.
    """
    rounding = _ROUNDING * np.abs(values).max(initial=0.0)
    return np.where(np.abs(differences) <= rounding, 0.0, differences)


def nested_interval(groups: Sequence[Sequence[float]]) -> Interval:
    """Interval of the mean over references, each the mean of its repeats.

    It covers the variance between references and, through their means, that of the repeats: it is
    about other references of the kind, each measured as often. Of one reference alone it is over
    its repeats, and about other seeds on it.
    """
    if len(groups) == 1:
        return interval(groups[0])
    return interval([float(np.mean(group)) for group in groups])


def spearman(one: Sequence[float], two: Sequence[float]) -> float:
    """Rank correlation, ties by their mean rank; NaN where one side is constant."""
    x, y = (ranks(np.asarray(values, float)) for values in (one, two))
    if x.std() == 0 or y.std() == 0:
        return math.nan
    return float(np.corrcoef(x, y)[0, 1])


def ranks(values: Float64) -> Float64:
    """Ranks of values, shape (n,), from 1; equal values share the mean of theirs."""
    _, inverse, counts = np.unique(values, return_inverse=True, return_counts=True)
    last = np.cumsum(counts)
    return np.asarray((last - (counts - 1) / 2)[inverse])
