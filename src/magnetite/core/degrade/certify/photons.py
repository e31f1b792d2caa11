"""Measurements of noise whose strength follows from the signal, band by band."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.degrade.certify.change import Change, Finding
from magnetite.core.degrade.certify.noise import NORMAL, fit_finding, moment_sums, moments_of

#: Samples darker than this are left out where the noise is judged relative to the signal.
_DARKEST = 0.01


@dataclass(frozen=True)
class PoissonSurvey:
    """Counts of photons: their variance per mean."""

    photons: float
    in_one_pass = None

    def of(self, part: Change) -> Float64:
        """Sums of the expected counts and of the deviations from them, and of their squares."""
        expected = part.before.clip(0, None).astype(np.float64) * self.photons
        deviation = part.drawn * np.float64(self.photons) - expected
        return np.array([
            expected.size, expected.sum(), np.vdot(expected, expected), deviation.sum(),
            np.vdot(deviation, deviation),
        ])  # fmt: skip

    def findings(self, sums: Float64) -> list[Finding]:
        """Variance per mean, and mean."""
        size, total, squares, deviations, power = sums.tolist()
        if total == 0:
            return []
        # Of Poisson counts of mean m the squared deviation has variance 2 m² + m.
        error = math.sqrt(2 * squares + total) / total
        return [
            Finding("variance per mean, in photons", "", 1.0, power / total, None, error),
            Finding(
                "mean, in photons", "photons", total / size, (total + deviations) / size, None,
                math.sqrt(total) / size,
            ),
        ]  # fmt: skip


@dataclass(frozen=True)
class SpeckleSurvey:
    """Factors of mean 1: their contrast, and their fit to the distribution."""

    contrast: float
    distribution: Literal["gamma", "gaussian"]
    in_one_pass = None

    def of(self, part: Change) -> Float64:
        """Sums of the factors as stored, and of their moments as drawn."""
        usable = part.before > _DARKEST
        drawn = part.drawn[usable] / part.before[usable]
        stored = (part.stored[usable] / part.before[usable]).astype(np.float64) - 1
        moments = moment_sums(drawn, 1.0, self.contrast)
        return np.concatenate([[stored.sum(), np.vdot(stored, stored)], moments])

    def findings(self, sums: Float64) -> list[Finding]:
        """Contrast, mean, skewness and fit."""
        contrast, count = self.contrast, sums[2]
        if count == 0 or contrast == 0:
            return []
        cumulative = self._gamma if self.distribution == "gamma" else NORMAL.cumulative
        measured = moments_of(sums[2:], cumulative, 1.0, contrast)
        mean, square = (sums[:2] / count).tolist()
        root = math.sqrt(count)
        excess = 6 * contrast**2 if self.distribution == "gamma" else 0.0
        kept = math.sqrt(max(0.0, square - mean**2))
        return [
            Finding(
                "contrast", "of the signal", contrast, measured.sd, kept,
                contrast * math.sqrt((2 + excess) / 4) / root,
            ),
            Finding("mean factor", "", 1.0, measured.mean, 1 + mean, contrast / root),
            Finding("skewness", "", None, measured.skewness),
            fit_finding(self.distribution, measured.distance, root),
        ]  # fmt: skip

    def _gamma(self, z: Float64) -> Float64:
        from scipy.special import gammainc

        factor = (1 + self.contrast * z).clip(0, None)
        return np.asarray(gammainc(1 / self.contrast**2, factor / self.contrast**2))


@dataclass(frozen=True)
class SensorSurvey:
    """Noise of a sensor in electrons: its strength, its mean and that of its rows."""

    #: Electrons at full scale of some rows of a picture, from their shape and first row.
    wells: Callable[[tuple[int, ...], int], Float64]
    read: float
    prnu: float
    dsnu: float
    row: float
    in_one_pass = None

    def of(self, part: Change) -> Float64:
        """Sums over samples, and over the means of rows."""
        wells = self.wells(part.before.shape, part.row)
        expected = part.before.clip(0, None).astype(np.float64) * wells
        noise = part.drawn * wells - expected
        kept = part.stored * wells - expected
        variance = expected + self.read**2 + self.dsnu**2 + self.row**2
        variance += (self.prnu * expected) ** 2
        means = noise.reshape(noise.shape[0], -1).mean(axis=1)
        return np.array([
            noise.size, expected.sum(), variance.sum(), np.vdot(variance, variance), noise.sum(),
            np.vdot(noise, noise), np.vdot(kept, kept), means.size, means.sum(), means @ means,
        ])  # fmt: skip

    def findings(self, sums: Float64) -> list[Finding]:
        """Strength and mean of the noise, and the spread of the means of rows."""
        size, total, variance, squares, noise, power, kept, rows, means, spread = sums.tolist()
        if variance == 0:
            return []
        expected = math.sqrt(variance / size)
        # The rows' own offsets are shared by all samples of a row and count once.
        error = (2 * squares + total) / size**2 + 2 * self.row**4 / rows
        of_rows = math.sqrt(max(0.0, spread / rows - (means / rows) ** 2))
        rows_asked = math.sqrt(self.row**2 + expected**2 * rows / size)
        return [
            Finding(
                "noise sd", "e", expected, math.sqrt(power / size), math.sqrt(kept / size),
                math.sqrt(error) / (2 * expected),
            ),
            Finding(
                "mean of the noise", "e", 0.0, noise / size, None,
                math.sqrt(expected**2 / size + self.row**2 / rows),
            ),
            Finding(
                "sd of row means", "e", rows_asked, of_rows, None, rows_asked / math.sqrt(2 * rows),
            ),
        ]  # fmt: skip


def survey_poisson(before: Pixels, *, photons: float) -> PoissonSurvey:
    """Survey of `poisson-noise`."""
    return PoissonSurvey(photons)


def survey_speckle(
    before: Pixels, *, contrast: float, distribution: Literal["gamma", "gaussian"]
) -> SpeckleSurvey:
    """Survey of `speckle`."""
    return SpeckleSurvey(contrast, distribution)
