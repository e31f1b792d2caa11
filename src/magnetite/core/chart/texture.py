"""Texture response from the dead leaves, by power spectrum and by cross spectrum.

ISO/TS 19567-2:2019; Cao, Guichard and Hornung, Proc. SPIE 7250, 2009, doi:10.1117/12.805856;
Kirk et al., Proc. SPIE 9023, 2014, doi:10.1117/12.2042474.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Complex128, Float64
from magnetite.core.calibrate.fitting import Estimate
from magnetite.core.chart.design import Chart
from magnetite.core.chart.drawing import leaves_shade
from magnetite.core.chart.mapping import Mapping
from magnetite.core.errors import PictureError

#: Positions of the reference along each axis of a px: it holds the aliases of sampling.
_FINE = 4
#: Share of the field's side that is measured, and smallest side of that, px.
_INNER, _LEAST = 0.96, 32
_BINS = 25


@dataclass(frozen=True)
class Texture:
    """Response to texture at frequencies in c/px, by two spectra."""

    frequency: Float64
    #: Root of the power over the chart's, noise subtracted: detail of any kind counts.
    by_power: Float64
    #: Share of the chart's own detail that is still there: invented detail does not count.
    by_cross: Float64
    #: Standard errors of both.
    power_error: Float64
    cross_error: Float64

    def at(self, frequency: float) -> dict[str, Estimate]:
        """Responses at a frequency, between neighbours on straight lines."""
        after = int(np.searchsorted(self.frequency, frequency).clip(1, self.frequency.size - 1))
        near = self.frequency[after - 1 : after + 1]
        share = float((frequency - near[0]) / (near[1] - near[0]))
        weights = np.array([1 - share, share])
        return {
            name: Estimate.of(
                float(weights @ curve[after - 1 : after + 1]),
                float(np.hypot(*(weights * error[after - 1 : after + 1]))),
            )
            for name, curve, error in (
                ("cross spectrum", self.by_cross, self.cross_error),
                ("power spectrum", self.by_power, self.power_error),
            )
        }


def measure_texture(
    light: Float64, noise_variance: Float64, noise_error: float, chart: Chart, mapping: Mapping
) -> Texture:
    """Spectra of the dead leaves against the chart's leaves at the same positions.

    Parameters
    ----------
    light : float array, shape (h, w)
        Linear light on the chart's scale, fall-off removed.
    noise_variance : float array, shape (n, n)
        Power spectrum of the noise per sample at the mean of the leaves (see `noise_spectrum`).
    noise_error : float
        Relative standard error of that power.
    chart : Chart
    mapping : Mapping

    Returns
    -------
    Texture

    Raises
    ------
    PictureError
        If the field leaves the picture, is smaller than 32 px, or has no texture.
    """
    top, left, side = leaves_region(light.shape, chart, mapping)
    window = _window(side)
    seen = light[top : top + side, left : left + side]
    fine = np.arange(side * _FINE) / _FINE
    # Every fourth position is the centre of a sample, so that both have the same phase.
    x, y = np.meshgrid(left + 0.5 + fine, top + 0.5 + fine)
    points = mapping.inverse(np.stack([x, y], axis=-1))
    truth = leaves_shade(chart.leaves)(points[..., 0], points[..., 1])
    if np.isnan(truth).any():
        raise PictureError("the dead leaves are not where the chart has them")
    test = np.fft.fft2((seen - np.average(seen, weights=window)) * window)
    fine_window = _window(side, _FINE)
    finely = np.fft.fft2((truth - np.average(truth, weights=fine_window)) * fine_window)
    expected = _lowest(finely, side) / _FINE**2
    frequency = np.hypot(*np.meshgrid(np.fft.fftfreq(side), np.fft.fftfreq(side)))
    edges = np.linspace(0, 0.5, _BINS + 1)
    edges[0] = 0.75 / side
    bins = np.digitize(frequency, edges) - 1
    noise = noise_variance * float((window**2).sum())
    sums = [
        np.bincount(bins[inside], weights=values[inside], minlength=_BINS)
        for inside in [(bins >= 0) & (bins < _BINS)]
        for values in (
            np.abs(expected) ** 2, np.abs(test) ** 2 - noise, (np.conj(expected) * test).real,
            noise, np.abs(expected) ** 2 * noise, noise * (2 * np.abs(test) ** 2 - noise),
            frequency, np.ones_like(frequency),
        )
    ]  # fmt: skip
    reference, power, cross, level, by_cross, by_power, total, count = (
        one[sums[-1] > 0] for one in sums
    )
    if not (reference > 0).all():
        raise PictureError("the dead leaves of the record have no texture")
    # The window correlates the errors of neighbouring frequencies; each frequency occurs twice.
    coupled = float((window**4).mean() / (window**2).mean() ** 2)
    cross_error = np.sqrt(coupled * by_cross) / reference
    power_variance = 2 * coupled * np.maximum(by_power, 0) + (noise_error * level) ** 2
    response = np.sqrt(np.maximum(power, 0) / reference)
    with np.errstate(divide="ignore", invalid="ignore"):
        power_error = np.sqrt(power_variance) / (2 * response * reference)
    return Texture(total / count, response, cross / reference, power_error, cross_error)


def leaves_region(shape: tuple[int, ...], chart: Chart, mapping: Mapping) -> tuple[int, int, int]:
    """Top, left and side of the largest upright square within the field, px of the picture.

    Raises
    ------
    PictureError
        If it leaves the picture or is smaller than 32 px.
    """
    leaves = chart.leaves
    middle = np.array([leaves.left + leaves.size / 2, leaves.top + leaves.size / 2])
    centre, turn = mapping(middle), abs(mapping.turn(middle))
    side = int(_INNER * leaves.size * mapping.scale(middle) / (math.cos(turn) + math.sin(turn)))
    left, top = (round(float(v) - side / 2) for v in centre)
    if min(left, top) < 0 or left + side > shape[1] or top + side > shape[0]:
        raise PictureError("the dead leaves leave the picture")
    if side < _LEAST:
        raise PictureError(f"the dead leaves are {side} px wide: it takes {_LEAST} or more")
    return top, left, side


def noise_spectrum(residuals: list[Float64], side: int) -> Float64:
    """Power of noise for each frequency of a square, relative to white noise of variance 1.

    Parameters
    ----------
    residuals : list of float arrays
        Noise of even patches.
    side : int
        Of the square, px.

    Returns
    -------
    float array, shape (side, side)
        In the order of the FFT, with a mean of about 1.
    """
    total = np.zeros((side, side))
    for residual in residuals:
        size = min(residual.shape)
        part = residual[:size, :size] / residual.std()
        window = _window(size)
        power = np.abs(np.fft.fft2(part * window)) ** 2 / (window**2).sum()
        index = np.rint(np.fft.fftfreq(side) * size).astype(int) % size
        total += power[np.ix_(index, index)]
    return total / len(residuals)


def _lowest(spectrum: Complex128, side: int) -> Complex128:
    """The frequencies of a spectrum that one of `side` samples a side has."""
    index = np.rint(np.fft.fftfreq(side) * side).astype(int) % len(spectrum)
    return spectrum[np.ix_(index, index)]


def _window(side: int, fine: int = 1) -> Float64:
    """Hann's window over the side of a square, sampled as finely as wanted."""
    position = np.arange(side * fine) / fine
    line = np.sin(np.pi * (position + 0.5) / side).clip(0) ** 2
    return np.outer(line, line)
