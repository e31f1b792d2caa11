"""Straight lines through measured points, and figures with confidence intervals."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float64

#: Half the width of a 95 % interval in standard errors.
NORMAL_95 = 1.959964


@dataclass(frozen=True)
class Estimate:
    """A figure and the ends of its 95 % confidence interval."""

    value: float
    low: float
    high: float

    @property
    def error(self) -> float:
        """Standard error, where the interval is symmetric."""
        return (self.high - self.low) / 2 / NORMAL_95

    @classmethod
    def of(cls, value: float, error: float) -> Estimate:
        """A figure with a standard error."""
        return cls(value, value - NORMAL_95 * error, value + NORMAL_95 * error)

    def shifted(self, by: float) -> Estimate:
        """The figure plus an exact amount."""
        return Estimate(self.value + by, self.low + by, self.high + by)

    def scaled(self, factor: float) -> Estimate:
        """The figure times an exact, positive factor."""
        return Estimate(self.value * factor, self.low * factor, self.high * factor)

    def root(self) -> Estimate:
        """Square root; negative values become 0."""
        ends = (self.value, self.low, self.high)
        return Estimate(*(math.nan if math.isnan(x) else math.sqrt(max(0.0, x)) for x in ends))

    def over(self, divisor: Estimate) -> Estimate:
        """This positive figure over an independent, positive one: relative errors in quadrature."""
        ratio = self.value / divisor.value
        share = (divisor.high - divisor.low) / 2 / divisor.value
        below, above = (
            math.hypot((end - self.value) / self.value, share) for end in (self.low, self.high)
        )
        return Estimate(ratio, ratio * (1 - below), ratio * (1 + above))

    def under(self, numerator: float) -> Estimate:
        """An exact, positive numerator over this positive figure; no upper end if it may be 0."""
        high = math.inf if self.low <= 0 else numerator / self.low
        return Estimate(numerator / self.value, numerator / self.high, high)


@dataclass(frozen=True)
class Line:
    """`intercept + slope x`, and how well it fits: chi-square per degree of freedom."""

    slope: Estimate
    intercept: Estimate
    #: Of slope and intercept, as fitted: they err in opposite directions.
    covariance: float
    chi_square: float

    def widened(self, factor: float) -> Line:
        """The line with intervals that are wider by a factor; without ends for NaN."""
        slope, intercept = (
            Estimate.of(one.value, factor * one.error) for one in (self.slope, self.intercept)
        )
        return Line(slope, intercept, self.covariance * factor**2, self.chi_square)

    def at(self, x: Float64) -> Float64:
        """The line's height."""
        return np.asarray(self.intercept.value + self.slope.value * x)


def fit_line(x: Float64, y: Float64, error: Float64) -> Line:
    """Weighted least squares.

    Parameters
    ----------
    x, y : float arrays, shape (n,), n at least 2
    error : float array, shape (n,)
        Standard errors of y.
    """
    unit = float(np.abs(x).max()) or 1.0  # so that large x do not spoil the arithmetic
    design = np.stack([np.ones_like(x), x / unit], axis=1) / error[:, np.newaxis]
    covariance = np.linalg.pinv(design.T @ design)
    intercept, slope = covariance @ design.T @ (y / error)
    residual = (y - intercept - slope * x / unit) / error
    chi_square = float(residual @ residual) / max(1, x.size - 2)
    errors = np.sqrt(np.diag(covariance))
    return Line(
        Estimate.of(float(slope), float(errors[1])).scaled(1 / unit),
        Estimate.of(float(intercept), float(errors[0])),
        float(covariance[0, 1]) / unit,
        chi_square,
    )
