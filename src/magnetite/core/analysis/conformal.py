"""Intervals for the next value that hold whatever its distribution, if cases are exchangeable."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.errors import InputError


class Predicted(NamedTuple):
    """The value expected, and the ends of its interval; infinite where cases are too few."""

    value: float
    low: float
    high: float


def conformal_interval(
    features: Float64, values: Float64, new: Float64, confidence: float, unknown: int = 0
) -> Predicted:
    """Interval for the value of a new case, from a straight line through those that are known.

    Full conformal prediction: a value t belongs to the interval where, in the line fitted to all
    cases and to the new one with t, at most the share `confidence` of the residuals are smaller
    than its own. With exchangeable cases the interval holds the value with at least that
    confidence. Vovk, Gammerman and Shafer, Algorithmic Learning in a Random World (2005), section
    2.3.

    Parameters
    ----------
    features : float64 array, shape (n, p)
    values : float64 array, shape (n,)
    new : float64 array, shape (p,)
        Features of the new case.
    confidence : float
        Between 0 and 1.
    unknown : int
        Further cases without a value: they count as if their residuals were the largest.

    Returns
    -------
    Predicted
        With the line's own value. Both ends are infinite for fewer than 1 / (1 - confidence) - 1
        cases.

    Raises
    ------
    InputError
        If there are not more cases than features and one.
    """
    count, width = features.shape
    if count < width + 2:
        raise InputError(f"{count} cases are too few for a line of {width} features")
    ones = np.ones((count + 1, 1))
    design = np.hstack([ones, np.vstack([features, new])])
    coefficients = np.linalg.lstsq(design[:-1], values, rcond=None)[0]
    value = float(design[-1] @ coefficients)
    rest = np.eye(count + 1) - design @ np.linalg.pinv(design)
    # Residuals with the new value t are constant + slope t.
    constant, slope = rest[:, :-1] @ values, rest[:, -1]

    def belongs(t: float) -> bool:
        residuals = np.abs(constant + slope * t)
        larger = int((residuals[:-1] >= residuals[-1] * (1 - 1e-12)).sum()) + unknown
        return bool((larger + 1) / (count + unknown + 1) > 1 - confidence + 1e-12)

    ends = _crossings(constant, slope)
    if ends.size == 0:
        return Predicted(value, -math.inf, math.inf)
    span = ends[-1] - ends[0] + abs(value) + 1
    if belongs(ends[0] - span) or belongs(ends[-1] + span):
        return Predicted(value, -math.inf, math.inf)
    between = (ends[:-1] + ends[1:]) / 2
    inside = [t for t in (*ends, *between, value) if belongs(float(t))]
    if not inside:
        return Predicted(value, value, value)
    low = ends[ends <= min(inside)].max(initial=-math.inf)
    high = ends[ends >= max(inside)].min(initial=math.inf)
    return Predicted(value, float(low), float(high))


def _crossings(constant: Float64, slope: Float64) -> Float64:
    """Values at which a residual is as large as that of the new case, in order."""
    found = []
    for sign in (1, -1):
        steep = slope[:-1] - sign * slope[-1]
        moved = sign * constant[-1] - constant[:-1]
        usable = np.abs(steep) > 1e-14
        found.append(moved[usable] / steep[usable])
    return np.sort(np.concatenate(found))
