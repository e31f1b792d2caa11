"""Measurements of noise: moments, fit to the declared distribution, independence."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from magnetite.core.arrays import Float32, Float64, Pixels, Samples
from magnetite.core.compute.bands import bands_of
from magnetite.core.compute.threads import spread
from magnetite.core.degrade._strength import noise_sd
from magnetite.core.degrade.certify.change import Change, Finding
from magnetite.core.degrade.certify.survey import Survey, rows

#: Distribution functions are compared at `POINTS` points, up to `FURTHEST` sd either way.
POINTS, FURTHEST = 2**15, 12.0
#: Mean and sd of Kolmogorov's statistic times √n, and the value that it exceeds as seldom as a
#: normal figure four standard errors (Marsaglia, Tsang and Wang, J. Statistical Software 8(18),
#: 2003, doi:10.18637/jss.v008.i18).
_KOLMOGOROV_MEAN, _KOLMOGOROV_SD, _KOLMOGOROV_LIMIT = 0.8687, 0.2603, 2.28


@dataclass(frozen=True)
class Distribution:
    """A distribution of mean 0 and standard deviation 1: its even moments and its function."""

    name: str
    fourth: float
    sixth: float
    eighth: float
    cumulative: Callable[[Float64], Float64]

    @property
    def sd_error(self) -> float:
        """Standard error of a measured sd, relative, times √n."""
        return math.sqrt((self.fourth - 1) / 4)

    @property
    def skewness_error(self) -> float:
        """Standard error of a measured skewness times √n, the mean being measured too."""
        return math.sqrt(self.sixth - 6 * self.fourth + 9)

    @property
    def kurtosis_error(self) -> float:
        """Standard error of a measured kurtosis times √n, the variance being measured too."""
        m4 = self.fourth
        return math.sqrt(self.eighth - 4 * m4 * self.sixth + 4 * m4**3 - m4**2)


def _normal(z: Float64) -> Float64:
    root = math.sqrt(0.5)  # one by one: SciPy's function would take longer to load
    return np.array([0.5 * math.erfc(-root * x) for x in z.ravel()]).reshape(z.shape)


def _uniform(z: Float64) -> Float64:
    return np.asarray((z / math.sqrt(12) + 0.5).clip(0, 1))


def _laplace(z: Float64) -> Float64:
    tail = 0.5 * np.exp(-math.sqrt(2) * np.abs(z))
    return np.where(z < 0, tail, 1 - tail)


NORMAL = Distribution("normal", 3, 15, 105, _normal)
UNIFORM = Distribution("uniform", 9 / 5, 27 / 7, 9, _uniform)
LAPLACE = Distribution("Laplace", 6, 90, 2520, _laplace)


@dataclass(frozen=True)
class Moments:
    """Moments of a residual, its correlation with the next sample, and its distance in fit."""

    count: int
    mean: float
    sd: float
    skewness: float
    kurtosis: float
    lag_one: float
    distance: float


def moments(
    residual: Pixels, cumulative: Callable[[Float64], Float64], mean: float = 0.0, sd: float = 1.0
) -> Moments:
    """Measure a residual of shape (h, w) or (h, w, n) against a declared distribution.

    `cumulative` is the distribution function of `(residual - mean) / sd`. `distance` is
    Kolmogorov's: the largest difference between it and the measured one.
    """
    parts = [residual[part] for part in bands_of(residual)]
    total = np.sum(spread(lambda band: moment_sums(band, mean, sd), parts), axis=0)
    return moments_of(total, cumulative, mean, sd)


def moment_sums(residual: Samples, mean: float, sd: float) -> Float64:
    """Sums that moments follow from: of powers about `mean`, of neighbours, and a histogram.

    `residual` of shape (h, w) or (h, w, n); the sums of shape (8 + `POINTS`,).
    """
    d = np.subtract(residual, mean, dtype=np.float64)
    square, flat = d * d, d.reshape(-1)
    squares = square.reshape(-1)
    sums = [flat.sum(), squares.sum(), np.vdot(squares, flat), np.vdot(squares, squares)]
    left, right = (d[:, :-1], d[:, 1:]) if d.ndim > 1 else (d[:0], d[:0])
    # Of neighbours: their products, both their sums, and how many.
    sums += [(left * right).sum(), left.sum() + right.sum(), left.size]
    counts = np.zeros(POINTS)
    if sd > 0:
        flat *= POINTS / (2 * FURTHEST * sd)
        flat += POINTS / 2
        np.clip(flat, 0, POINTS - 1, out=flat)
        counts += np.bincount(flat.astype(np.intp), minlength=POINTS)
    return np.concatenate([[d.size], sums, counts])


@lru_cache(maxsize=4)
def _at_points(cumulative: Callable[[Float64], Float64]) -> Float64:
    """A distribution function between the bins of a histogram, shape (`POINTS` - 1,)."""
    return cumulative((np.arange(1, POINTS) / POINTS - 0.5) * 2 * FURTHEST)


def moments_of(
    sums: Float64, cumulative: Callable[[Float64], Float64], mean: float, sd: float
) -> Moments:
    """Moments from the sums of all bands, shape (8 + `POINTS`,), about the measured mean."""
    count, s1, s2, s3, s4, products, both, pairs = sums[:8].tolist()
    c, r2, r3, r4 = (s / count for s in (s1, s2, s3, s4))
    m2 = r2 - c * c
    m3 = r3 - 3 * c * r2 + 2 * c**3
    m4 = r4 - 4 * c * r3 + 6 * c**2 * r2 - 3 * c**4
    distance = 0.0
    if sd > 0:
        reached = np.cumsum(sums[8:]) / count
        distance = float(np.abs(reached[:-1] - _at_points(cumulative)).max())
    if m2 <= 0:
        return Moments(int(count), mean + c, 0.0, 0.0, 0.0, 0.0, distance)
    lag_one = (products - c * both + c * c * pairs) / (m2 * count)
    return Moments(
        int(count), mean + c, math.sqrt(m2), m3 / m2**1.5, m4 / m2**2 - 3, lag_one, distance
    )


def survey_additive(distribution: Distribution) -> Callable[..., Survey]:
    """Survey of noise added by the settings of `strength`, of a distribution."""

    def survey(
        before: Pixels, *, mean: float, channels: str, **strength: float | None
    ) -> AdditiveSurvey:
        asked = noise_sd(before, mean=mean, **strength)
        # Channels that share their noise count once.
        copies = before.shape[2] if channels == "common" and before.ndim == 3 else 1
        return AdditiveSurvey(distribution, asked, mean, copies, strength)

    return survey


@dataclass(frozen=True)
class AdditiveSurvey:
    """Measurements of additive noise."""

    distribution: Distribution
    asked: float
    mean: float
    #: Samples that share each number drawn.
    copies: int
    strength: dict[str, float | None]

    def of(self, part: Change) -> Float64:
        """Sums of the noise as stored, of the signal, and of the noise as drawn."""
        kept = np.subtract(part.stored, part.before, dtype=np.float64).reshape(-1)
        power = np.square(part.before, dtype=np.float64).sum()
        drawn = np.subtract(part.drawn, part.before)
        noise = moment_sums(drawn, self.mean, self.asked)
        return np.concatenate([[kept.sum(), np.vdot(kept, kept), power], noise])

    def in_one_pass(self, before: Float32, after: Float32, full_scale: np.float32) -> Float64:
        """The same, compiled."""
        from magnetite.core.degrade.kernels.survey_sums import noise_sums

        lag = before.shape[2] if before.ndim == 3 else 1
        return noise_sums(
            rows(before), rows(after), full_scale, self.mean, self.asked, lag, POINTS, FURTHEST
        )

    def findings(self, sums: Float64) -> list[Finding]:
        """Strength, mean, and fit to the distribution."""
        measured = moments_of(sums[3:], self.distribution.cumulative, self.mean, self.asked)
        mean, square, power = (sums[:3] / measured.count).tolist()
        sd = math.sqrt(max(0.0, square - mean**2))
        root = math.sqrt(measured.count // self.copies)
        error = self.asked * self.distribution.sd_error / root
        findings = [
            Finding("sd", "fs", self.asked, measured.sd, sd, error),
            Finding("mean", "fs", self.mean, measured.mean, mean, self.asked / root),
        ]
        if self.asked == 0:
            return findings
        findings += self._ratios(measured, square, power, root)
        return findings + shape_findings(measured, self.distribution, root)

    def _ratios(self, measured: Moments, kept: float, signal: float, root: float) -> list[Finding]:
        """The target of `psnr` or `snr`, where one is set."""
        power = measured.sd**2 + measured.mean**2
        error = 20 / math.log(10) * self.distribution.sd_error / root
        findings = []
        for key, reference in (("psnr", 1.0), ("snr", signal)):
            asked = self.strength[key]
            if asked is not None:
                drawn, stored = (
                    10 * math.log10(reference / p) if p else None for p in (power, kept)
                )
                findings.append(Finding(key, "dB", asked, drawn, stored, error))
        return findings


def shape_findings(measured: Moments, distribution: Distribution, root: float) -> list[Finding]:
    """Skewness, kurtosis, fit and independence; `root` is √n."""
    return [
        Finding("skewness", "", 0.0, measured.skewness, None, distribution.skewness_error / root),
        Finding(
            "excess kurtosis", "", distribution.fourth - 3, measured.kurtosis, None,
            distribution.kurtosis_error / root,
        ),
        fit_finding(distribution.name, measured.distance, root),
        Finding("correlation with next sample", "", 0.0, measured.lag_one, None, 1 / root),
    ]  # fmt: skip


def fit_finding(name: str, distance: float, root: float) -> Finding:
    """Kolmogorov's distance to a distribution that is declared in full, and its expectation."""
    return Finding(
        f"distance from {name}", "", _KOLMOGOROV_MEAN / root, distance, None,
        _KOLMOGOROV_SD / root, name, _KOLMOGOROV_LIMIT / root,
    )  # fmt: skip


def binomial(quantity: str, share: float, hits: int, count: int) -> Finding:
    """A share of hits among independent tries."""
    if count == 0:
        return Finding(quantity, "share", share, None)
    error = math.sqrt(share * (1 - share) / count)
    measured = hits / count
    return Finding(quantity, "share", share, measured, measured, error)
