"""Noise of a camera over its signal, from the gray steps of one picture of the chart.

ISO 15739:2023 (noise, dynamic range); Janesick, Photon Transfer (2007), chapter 5.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.calibrate.fitting import Estimate
from magnetite.core.chart.correlation import correlations, detrended
from magnetite.core.chart.design import Chart
from magnetite.core.chart.mapping import Mapping
from magnetite.core.chart.tone import Level, Tone, samples_of
from magnetite.core.errors import PictureError

#: sd in digital numbers below which rounding hides the noise.
_LEAST_SD = 0.6
#: Smallest sd of float samples that counts as noise, a share of full scale.
_NO_NOISE = 1e-6
#: Chance below which chi-square shows that the steps do not follow the model.
_BY_CHANCE = 0.01
#: Rounds of weights and fit.
_ROUNDS = 8


@dataclass(frozen=True)
class StepNoise:
    """Signal and noise of one gray step, shares of full scale, in linear light."""

    light: float
    signal: float
    noise: float
    #: Relative standard error of the noise.
    error: float


@dataclass(frozen=True)
class NoiseModel:
    """Noise of one channel: `variance = read² + signal / full well + (prnu signal)²`."""

    channel: str
    steps: tuple[StepNoise, ...]
    #: sd without light as a share of full scale, and in electrons; electrons at full scale; PRNU,
    #: a share of the signal.
    read: Estimate
    read_electrons: Estimate
    full_well: Estimate
    prnu: Estimate
    #: Chi-square per degree of freedom.
    chi_square: float
    #: Largest signal over the signal that is as large as its noise, dB.
    dynamic_range: Estimate | None
    #: Share of the noise's variance that the next sample has in common with it.
    correlation: float


def measure_noise(
    pixels: Float64, chart: Chart, mapping: Mapping, tone: Tone, rounding: float
) -> list[NoiseModel]:
    """The noise model of each channel.

    Noise is the sd of a step about its plane, in linear light; where the noise is correlated, its
    error grows with the sum of the squared correlations. Rounding noise is subtracted.

    Parameters
    ----------
    pixels : float array, shape (h, w, channels), full-scale units
    chart, mapping, tone
        As found before.
    rounding : float
        Distance of neighbouring sample values, 0 for float.

    Returns
    -------
    list of NoiseModel

    Raises
    ------
    PictureError
        If fewer than four steps show noise.
    """
    names = ("gray",) if pixels.shape[2] == 1 else ("red", "green", "blue")
    full = tone.decode(np.ones((1, pixels.shape[2])))[0]
    kept = []
    for patch in sorted(chart.steps, key=lambda step: step.light):
        samples = samples_of(pixels, patch, mapping)
        if samples is None or (level := Level(patch, samples)).clipped(rounding):
            continue
        light, slope = tone.decode(samples) / full, tone.slope(level.mean) / full
        slope_error, on_chart = tone.slope_error(level.mean), patch.light[0]
        kept.append([
            _Step(on_chart, samples[..., c], light[..., c], float(slope[c]), float(slope_error[c]))
            for c in range(len(names))
        ])  # fmt: skip
    return [_model(name, [step[c] for step in kept], rounding) for c, name in enumerate(names)]


class _Step(NamedTuple):
    """A gray step in one channel: its light on the chart, samples, and their light."""

    on_chart: float
    samples: Float64
    light: Float64
    #: Light per unit of sample value, and its relative standard error.
    slope: float
    slope_error: float


def _model(name: str, kept: list[_Step], rounding: float) -> NoiseModel:
    steps, lags = [], []
    for one in kept:
        residual = detrended(one.samples)
        free = residual.size - 3
        if float((residual**2).sum()) / free < max(_LEAST_SD * rounding, _NO_NOISE) ** 2:
            continue
        shared, correlation = _effective_size(residual)
        variance = float((detrended(one.light) ** 2).sum()) / free
        noise = math.sqrt(max(0.0, variance - (one.slope * rounding) ** 2 / 12))
        error = math.hypot(math.sqrt(0.5 / shared), one.slope_error)
        steps.append(StepNoise(one.on_chart, float(one.light.mean()), noise, error))
        lags.append(correlation)
    if len(steps) < 4:
        raise PictureError(
            f"the noise of {name} shows in {len(steps)} gray steps only, and it takes 4: there "
            "is none, or rounding hides it"
        )
    signals, noises, shares = (
        np.array([getattr(step, name) for step in steps]) for name in ("signal", "noise", "error")
    )
    values, covariance, chi_square = _fit(signals, noises**2, shares)
    widening = _widening(chi_square, len(steps) - 3)
    errors = np.sqrt(np.diag(covariance) * widening)
    square, gain, gain_square = (
        Estimate.of(float(v), float(e)) for v, e in zip(values, errors, strict=True)
    )
    return NoiseModel(
        name, tuple(steps), square.root(), _in_electrons(values, covariance * widening),
        _inverse(gain), gain_square.root(), chi_square,
        _dynamic_range(values, covariance * widening),
        float(np.median(lags)),
    )  # fmt: skip


def _effective_size(residual: Float64) -> tuple[float, float]:
    """Independent samples with as sure a variance, and the correlation of neighbours in a row.

    Half a variance's relative error squared is the sum of squared correlations over the number of
    samples (Bartlett 1946); estimates of correlations below their own error count as 0.
    """
    size, total = residual.size, 0.0
    if not residual.any():
        return float(size), 0.0
    neighbour = 0.0
    for lag, correlation in correlations(residual):
        neighbour = correlation if lag == (0, 1) else neighbour
        if abs(correlation) > 3 / math.sqrt(size):
            total += 2 * correlation**2
    return size / (1 + total), neighbour


def _fit(signal: Float64, variance: Float64, error: Float64) -> tuple[Float64, Float64, float]:
    """Weighted least squares of the three terms, weights by the fitted variance."""
    design = np.stack([np.ones_like(signal), signal, signal**2], axis=1)
    expected = variance
    for _ in range(_ROUNDS):
        weight = 1 / np.maximum(2 * error * expected, 1e-300)
        weighted = design * weight[:, np.newaxis]
        scale = np.linalg.norm(weighted, axis=0)
        values, *_ = np.linalg.lstsq(weighted / scale, variance * weight, rcond=None)
        covariance = np.linalg.pinv((weighted / scale).T @ (weighted / scale))
        values, covariance = values / scale, covariance / np.outer(scale, scale)
        expected = np.maximum(design @ values, 0.05 * variance)
    residual = (variance - design @ values) * weight
    return values, covariance, float(residual @ residual) / max(1, signal.size - 3)


def _widening(chi_square: float, freedom: int) -> float:
    """Factor of variances: chi-square per degree of freedom where chance does not explain it."""
    from scipy.special import chdtri

    if freedom < 1 or chi_square * freedom < float(chdtri(freedom, _BY_CHANCE)):
        return 1.0
    return chi_square


def _inverse(slope: Estimate) -> Estimate:
    """Electrons at full scale: the inverse of the slope; without an end where that may be 0."""
    if slope.value <= 0:
        return Estimate(math.nan, 1 / slope.high if slope.high > 0 else math.nan, math.inf)
    high = 1 / slope.low if slope.low > 0 else math.inf
    return Estimate(1 / slope.value, 1 / slope.high, high)


def _in_electrons(values: Float64, covariance: Float64) -> Estimate:
    """Read noise in electrons: its square is intercept / slope²."""
    square, slope = float(values[0]), float(values[1])
    if slope <= 0:
        return Estimate(math.nan, math.nan, math.nan)
    gradient = np.array([slope**-2, -2 * square * slope**-3])
    error = math.sqrt(max(0.0, float(gradient @ covariance[:2, :2] @ gradient)))
    return Estimate.of(square / slope**2, error).root()


def _dynamic_range(values: Float64, covariance: Float64) -> Estimate | None:
    """1 over the signal s with s² = variance(s), dB; None where no noise without light is seen."""
    square, slope, gain_square = (max(0.0, float(v)) for v in values)
    if square == 0 or gain_square >= 1:
        return None
    a = 1 - gain_square
    least = (slope + math.sqrt(slope**2 + 4 * a * square)) / (2 * a)
    # Of s² = square + slope s + gain² s², by each of the three.
    by_each = np.array([1.0, least, least**2]) / (2 * a * least - slope)
    error = math.sqrt(max(0.0, float(by_each @ covariance @ by_each)))
    decibels = 20 / math.log(10)
    return Estimate.of(-decibels * math.log(least), decibels * error / least)
