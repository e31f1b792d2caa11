"""Agreement of metrics with opinions, after a monotone mapping.

Recommendation ITU-T P.1401 (2020), sections 7 and 9; Steiger, Psychological Bulletin 87(2), 1980,
doi:10.1037/0033-2909.87.2.245.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from magnetite.core.analysis.statistics import spearman
from magnetite.core.arrays import Float64
from magnetite.core.calibrate.fitting import NORMAL_95, Estimate
from magnetite.core.curves.comparison import Better

#: Parameters of the mapping: degrees of freedom that the rmse loses.
_PARAMETERS = 4
#: Fewest pictures that a mapping is fitted to.
LEAST = 6


@dataclass(frozen=True)
class LogisticMapping:
    """A logistic curve: `low + (high - low) / (1 + exp(-(x - middle) / width))`."""

    low: float
    high: float
    middle: float
    width: float

    def __call__(self, x: Float64) -> Float64:
        steep = np.clip(-(x - self.middle) / self.width, -700, 700)
        return np.asarray(self.low + (self.high - self.low) / (1 + np.exp(steep)))

    def inverse(self, y: float) -> float | None:
        """The figure that is mapped to an opinion; None beyond the curve's ends."""
        share = (y - self.low) / (self.high - self.low) if self.high != self.low else math.nan
        if not 0 < share < 1:
            return None
        return self.middle + self.width * math.log(share / (1 - share))

    def slope(self, x: float) -> float:
        """Derivative at a figure."""
        share = 1 / (1 + math.exp(min(700.0, max(-700.0, -(x - self.middle) / self.width))))
        return (self.high - self.low) * share * (1 - share) / self.width


@dataclass(frozen=True)
class Agreement:
    """How well a metric follows opinions."""

    mapping: LogisticMapping
    pearson: Estimate
    spearman: Estimate
    rmse: Estimate
    predicted: Float64


def fitted_mapping(x: Float64, y: Float64, better: Better) -> LogisticMapping:
    """Logistic curve through figures and opinions, each of shape (n,), least squares.

    It rises with figures of which the higher is better, and falls with others, whatever the
    opinions say: where no such curve is nearer to them than their mean, it is their mean.
    """
    from scipy.optimize import least_squares

    centre, spread = float(np.median(x)), float(x.std()) or 1.0
    up = 1.0 if better == "higher" else -1.0
    unit = (x - centre) / spread * up
    reach = float(np.ptp(y)) or 1.0

    def share(p: Float64) -> Float64:
        return np.asarray(1 / (1 + np.exp(np.clip(-(unit - p[2]) / np.exp(p[3]), -700, 700))))

    def residual(p: Float64) -> Float64:
        return np.asarray(p[0] + np.exp(p[1]) * share(p) - y)

    def derivatives(p: Float64) -> Float64:
        height, own = np.exp(p[1]), share(p)
        slope = height * own * (1 - own) / np.exp(p[3])
        return np.stack([np.ones_like(y), height * own, -slope, -slope * (unit - p[2])], axis=1)

    best = min(
        (
            least_squares(
                residual,
                [float(y.min()), math.log(reach), 0.0, math.log(width)],
                derivatives,
                bounds=(
                    [-np.inf, math.log(1e-3 * reach), -6, -4],
                    [np.inf, math.log(20 * reach), 6, 3],
                ),
            )
            for width in (0.2, 0.5, 1.5)
        ),
        key=lambda found: float(found.cost),
    )  # fmt: skip
    mean = float(y.mean())
    if best.cost >= np.sum((y - mean) ** 2) / 2:
        return LogisticMapping(mean, mean, centre, up * spread)
    low, height, middle, width = best.x
    return LogisticMapping(
        float(low), float(low + math.exp(height)), centre + up * spread * float(middle),
        up * spread * math.exp(width),
    )  # fmt: skip


def agreement(x: Float64, y: Float64, better: Better) -> Agreement:
    """Correlations and rmse after the mapping, with 95 % intervals by Fisher's z and chi-square.

    The rank correlation is below 0 where the metric prefers the pictures that people like less;
    Pearson's is then 0, since no mapping in the metric's direction explains the opinions.

    Parameters
    ----------
    x, y : float arrays, shape (n,)
        A metric's figures, finite, and opinions; six or more.
    better : "higher" or "lower"
        The better direction of the metric.
    """
    from scipy.special import chdtri

    mapping = fitted_mapping(x, y, better)
    predicted, count = mapping(x), x.size
    pearson = _correlation(predicted, y)
    rank = (1 if better == "higher" else -1) * spearman(x.tolist(), y.tolist())
    freedom = max(1, count - _PARAMETERS)
    total = float(np.sum((predicted - y) ** 2))
    ends = (math.sqrt(total / float(chdtri(freedom, p))) for p in (0.025, 0.975))
    return Agreement(
        # Each parameter of the mapping beyond those of a straight line takes a picture.
        mapping, _fisher(pearson, 1 / math.sqrt(count - 3 - (_PARAMETERS - 2))),
        # Bonett and Wright, Psychometrika 65(1), 2000, doi:10.1007/BF02294183. An order without
        # fault counts as half an exchange of neighbours short of it.
        _fisher(rank, math.sqrt((1 + rank**2 / 2) / (count - 3)), 1 - 6 / (count * (count**2 - 1))),
        Estimate(math.sqrt(total / freedom), *ends), predicted,
    )  # fmt: skip


def _correlation(one: Float64, other: Float64) -> float:
    """Pearson's correlation; 0 of values that differ by rounding alone."""
    if any(np.ptp(own) <= 1e-9 * np.abs(own).max() for own in (one, other)):
        return 0.0
    return float(np.corrcoef(one, other)[0, 1])


def _fisher(correlation: float, error: float, most: float = 0.999999) -> Estimate:
    """A correlation with the interval by Fisher's z, which is taken up to `most` in size."""
    z = math.atanh(min(max(correlation, -most), most))
    low, high = (math.tanh(z + sign * NORMAL_95 * error) for sign in (-1, 1))
    return Estimate(correlation, min(low, correlation), max(high, correlation))


def steiger(one: Float64, other: Float64, y: Float64) -> float:
    """Chance, two-sided, of so large a difference of two correlations with the same opinions.

    Steiger's test of correlations that share a variable, with the mean of both in their
    covariance.

    Parameters
    ----------
    one, other, y : float arrays, shape (n,)
        Predictions by two metrics, and opinions; 1 where the predictions are the same.
    """
    r1, r2, r12 = (_correlation(a, b) for a, b in ((one, y), (other, y), (one, other)))
    if r12 >= 1 - 1e-12:
        return 1.0
    mean = min((r1 + r2) / 2, 1 - 1e-9)
    psi = r12 * (1 - 2 * mean**2) - mean**2 * (1 - 2 * mean**2 - r12**2) / 2
    share = psi / (1 - mean**2) ** 2
    bounded = (min(max(r, -1 + 1e-9), 1 - 1e-9) for r in (r1, r2))
    z1, z2 = map(math.atanh, bounded)
    z = (z1 - z2) * math.sqrt((y.size - 3) / max(1e-12, 2 - 2 * share))
    return math.erfc(abs(z) / math.sqrt(2))
