"""What certificates measure of noise: moments, fit to the declared distribution, independence."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.compute.bands import bands
from magnetite.core.compute.threads import spread
from magnetite.core.degrade.certify.change import Change, Finding
from magnetite.core.degrade.kernels.strength import noise_sd

#: Number of probability levels at which distribution functions are compared.
LEVELS = 4096
#: Kolmogorov's statistic exceeds 2.28 / √n as seldom as a normal figure four standard errors.
KOLMOGOROV_ERROR = 2.28 / 4
_BAND = 2**19


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
    from scipy.special import ndtr

    return np.asarray(ndtr(z))


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
    centre = float(residual.mean(dtype=np.float64))

    def sums(band: Pixels) -> Float64:
        d = band - np.float64(centre)
        square = d * d
        u = cumulative((band - np.float64(mean)) / sd) if sd > 0 else np.zeros(1)
        counts = np.bincount((u * LEVELS).astype(np.intp).ravel().clip(0, LEVELS - 1))
        powers = [square.sum(), (square * d).sum(), np.vdot(square, square)]
        neighbours = (d[:, 1:] * d[:, :-1]).sum() if d.ndim > 1 else 0.0
        return np.concatenate([powers, [neighbours], np.pad(counts, (0, LEVELS - counts.size))])

    rows = max(1, _BAND // max(1, residual[0].size))
    parts = [residual[part] for part in bands(residual.shape[0], rows)]
    total = np.sum(spread(sums, parts), axis=0)
    count = residual.size
    m2, m3, m4 = total[:3] / count
    reached = np.cumsum(total[4:]) / count
    distance = float(np.abs(reached - np.arange(1, LEVELS + 1) / LEVELS).max()) if sd > 0 else 0.0
    if m2 == 0:
        return Moments(count, centre, 0.0, 0.0, 0.0, 0.0, distance)
    return Moments(
        count, centre, math.sqrt(m2), m3 / m2**1.5, m4 / m2**2 - 3, total[3] / total[0], distance
    )  # fmt: skip


def certify_additive(distribution: Distribution) -> Callable[..., list[Finding]]:
    """Certify noise added by the settings of `strength`, of a distribution."""

    def certify(
        change: Change, *, mean: float, channels: str, **strength: float | None
    ) -> list[Finding]:
        asked = noise_sd(change.before, mean=mean, **strength)
        drawn = np.subtract(change.drawn, change.before)
        stored = np.subtract(change.stored, change.before, dtype=np.float64)
        measured = moments(drawn, distribution.cumulative, mean, asked)
        # Channels that share their noise count once.
        count = drawn.size
        if channels == "common" and drawn.ndim == 3:
            count //= drawn.shape[2]
        root = math.sqrt(count)
        findings = [
            Finding(
                "sd", "fs", asked, measured.sd, float(stored.std()),
                asked * distribution.sd_error / root,
            ),
            Finding("mean", "fs", mean, measured.mean, float(stored.mean()), asked / root),
        ]  # fmt: skip
        if asked == 0:
            return findings
        findings += _ratio_findings(change, measured, strength, mean, distribution, root)
        return findings + shape_findings(measured, distribution, root)

    return certify


def _ratio_findings(
    change: Change,
    measured: Moments,
    strength: dict[str, float | None],
    mean: float,
    distribution: Distribution,
    root: float,
) -> list[Finding]:
    """What `psnr` or `snr` asked for, where one of them did."""
    power = measured.sd**2 + measured.mean**2
    kept = float(np.mean(np.square(change.stored - change.before, dtype=np.float64)))
    signal = {"psnr": 1.0, "snr": float(np.mean(np.square(change.before, dtype=np.float64)))}
    error = 20 / math.log(10) * distribution.sd_error / root
    findings = []
    for key, reference in signal.items():
        asked = strength[key]
        if asked is not None:
            drawn, stored = (10 * math.log10(reference / p) if p else None for p in (power, kept))
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
    """Kolmogorov's distance to a distribution that is declared in full."""
    return Finding(f"distance from {name}", "", 0.0, distance, None, KOLMOGOROV_ERROR / root, name)


def binomial(quantity: str, share: float, hits: int, count: int) -> Finding:
    """A share of hits among independent tries."""
    if count == 0:
        return Finding(quantity, "share", share, None)
    error = math.sqrt(share * (1 - share) / count)
    measured = hits / count
    return Finding(quantity, "share", share, measured, measured, error)
