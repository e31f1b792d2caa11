"""Colour errors of a camera, and the lateral shift of its colours."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.calibrate.fitting import Estimate
from magnetite.core.chart.design import Chart
from magnetite.core.chart.falloff import Falloff
from magnetite.core.chart.mapping import Mapping
from magnetite.core.chart.marks import Found, dot_centre
from magnetite.core.chart.tone import Level, Tone, samples_of
from magnetite.core.errors import PictureError
from magnetite.core.metrics.colour import ciede2000, lab_of_light

#: Fewest colours and dots that figures are taken from.
_LEAST_COLOURS, _LEAST_DOTS = 6, 20
#: Draws of the errors that the intervals of colour errors are taken from.
_DRAWS = 400


@dataclass(frozen=True)
class ColourError:
    """CIEDE2000 of each patch, its mean and the value that 95 % stay below."""

    differences: Float64
    mean: Estimate
    high: Estimate
    #: Patches left out, as outside the picture or clipped.
    missing: int


def measure_colours(
    pixels: Float64, chart: Chart, mapping: Mapping, tone: Tone, falloff: Falloff, rounding: float
) -> ColourError:
    """Colours by the tone response of each channel, against those of the chart.

    The response of each channel is that of the gray steps, so grays are right by definition
    (ISO 17321-1:2012, white-balanced); the remainder is the mixture of colours.

    Parameters
    ----------
    pixels : float array, shape (h, w, 3), full-scale units
    chart, mapping, tone, falloff
        As found before.
    rounding : float
        Distance of neighbouring sample values, 0 for float.

    Returns
    -------
    ColourError

    Raises
    ------
    PictureError
        If fewer than six colours can be used, or the picture is gray.
    """
    if pixels.shape[2] != 3:
        raise PictureError("the picture is gray")
    levels, relative, wanted = [], [], []
    for patch in chart.colours:
        samples = samples_of(pixels, patch, mapping)
        if samples is None or (level := Level(patch, samples)).clipped(rounding):
            continue
        levels.append(level)
        relative.append(float(falloff.at(mapping(np.array([patch.x, patch.y])))))
        wanted.append(patch.light)
    if len(levels) < _LEAST_COLOURS:
        raise PictureError(f"only {len(levels)} colour patches lie inside and are not clipped")
    shares = np.array(relative)[:, np.newaxis]
    seen = np.array([tone.decode(one.samples).mean(axis=(0, 1)) for one in levels]) / shares
    truth = lab_of_light(np.array(wanted))
    differences = ciede2000(truth, lab_of_light(seen))
    off = _drawn_errors(levels, tone) / shares
    light = np.array(wanted)
    drawn = ciede2000(truth, lab_of_light(np.maximum(seen + off, 0)))
    by_noise = ciede2000(truth, lab_of_light(np.maximum(light + off, 0)))
    mean, high = (
        _with_interval(figure(differences), figure(drawn), figure(by_noise))
        for figure in (_mean, _high)
    )
    return ColourError(differences, mean, high, len(chart.colours) - len(seen))


def _drawn_errors(levels: Sequence[Level], tone: Tone) -> Float64:
    """Errors of the patches' light and of the response, as many draws: shape (draws, n, 3)."""
    rng = np.random.default_rng(0)
    means, errors = (np.array([getattr(one, k) for one in levels]) for k in ("mean", "error"))
    errors = math.sqrt(tone.shared) * errors
    off = [
        errors * rng.normal(size=errors.shape) + tone.drawn_error(means, rng) for _ in range(_DRAWS)
    ]
    return np.asarray(tone.slope(means) * np.array(off))


def _mean(differences: Float64) -> Float64:
    return np.asarray(differences.mean(axis=-1))


def _high(differences: Float64) -> Float64:
    return np.asarray(np.percentile(differences, 95, axis=-1))


def _with_interval(value: Float64, drawn: Float64, by_noise: Float64) -> Estimate:
    """A colour error with the ends of its interval.

    Noise alone makes differences, which are never below 0: as much as right colours would show is
    within the interval.
    """
    middle = Estimate.of(float(value), float(np.std(drawn)))
    least = float(np.percentile(by_noise, 97.5))
    beyond = math.sqrt(max(0.0, middle.value**2 - least**2))
    return replace(middle, low=max(0.0, min(middle.low, beyond)))


@dataclass(frozen=True)
class ColourShift:
    """Displacement of one channel against green, px of the picture.

    At a position p from the middle, in half diagonals, it is `constant + p (a + b p²)`.
    """

    channel: str
    #: Outwards, in the corners.
    corners: Estimate
    #: Across and down, everywhere.
    constant: tuple[Estimate, Estimate]
    #: Positions of the dots, and their fitted displacements, shape (n, 2).
    points: Float64
    displacement: Float64

    @property
    def largest(self) -> float:
        """Largest fitted displacement of a dot."""
        return float(np.hypot(*self.displacement.T).max())


def measure_colour_shift(pixels: Float64, chart: Chart, found: Found) -> list[ColourShift]:
    """Lateral shift of red and blue against green, from the dots.

    Raises
    ------
    PictureError
        If the picture is gray, or fewer than 20 dots are seen in all channels.
    """
    if pixels.shape[2] != 3:
        raise PictureError("the picture is gray")
    centres = np.full((3, len(found.chart_points), 2), np.nan)
    for channel in range(3):
        for k, point in enumerate(found.chart_points):
            centre = dot_centre(pixels[..., channel], found.mapping, point, chart)
            if centre is not None:
                centres[channel, k] = centre
    complete = np.isfinite(centres).all(axis=(0, 2))
    if complete.sum() < _LEAST_DOTS:
        raise PictureError(f"only {int(complete.sum())} dots are seen in all three channels")
    red, green, blue = centres[:, complete]
    size = pixels.shape[1], pixels.shape[0]
    return [
        _fitted(name, green, channel - green, size)
        for name, channel in (("red", red), ("blue", blue))
    ]


def _fitted(name: str, points: Float64, shift: Float64, size: tuple[int, int]) -> ColourShift:
    unit = float(np.hypot(*size)) / 2
    away = (points - np.array(size) / 2) / unit
    square = (away**2).sum(axis=1, keepdims=True)
    zero, one = np.zeros(len(points)), np.ones(len(points))
    design = np.concatenate(
        [
            np.stack([one, zero, away[:, 0], (away * square)[:, 0]], axis=1),
            np.stack([zero, one, away[:, 1], (away * square)[:, 1]], axis=1),
        ]
    )
    wanted = shift.T.ravel()
    values = np.linalg.lstsq(design, wanted, rcond=None)[0]
    fitted = (design @ values).reshape(2, -1).T
    residual = wanted - design @ values
    variance = float(residual @ residual) / (wanted.size - values.size)
    covariance = variance * np.linalg.pinv(design.T @ design)
    across, down = (Estimate.of(float(values[k]), float(covariance[k, k] ** 0.5)) for k in (0, 1))
    corners = Estimate.of(float(values[2:].sum()), float(covariance[2:, 2:].sum() ** 0.5))
    return ColourShift(name, corners, (across, down), points, fitted)
