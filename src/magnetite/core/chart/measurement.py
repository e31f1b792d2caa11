"""Measure a camera from one picture of the chart."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TypeVar

import numpy as np

from magnetite.core.arrays import Bools, Float64
from magnetite.core.chart.colour import measure_colour_shift, measure_colours
from magnetite.core.chart.correlation import detrended
from magnetite.core.chart.design import Chart
from magnetite.core.chart.exposure import check_unclipped, clipped_samples
from magnetite.core.chart.falloff import Falloff, background_patches
from magnetite.core.chart.mapping import Mapping
from magnetite.core.chart.marks import find
from magnetite.core.chart.noise import NoiseModel, measure_noise
from magnetite.core.chart.resolution import (
    StarResponse,
    measure_edges_of,
    measure_star,
    star_region,
)
from magnetite.core.chart.result import ChartMeasurement
from magnetite.core.chart.texture import Texture, leaves_region, measure_texture, noise_spectrum
from magnetite.core.chart.tone import Tone, measure_tone, samples_of
from magnetite.core.errors import PictureError, check_choice
from magnetite.core.picture import Picture, luma

TONES = ("measured", "linear", "srgb", "bt709")
_Part = TypeVar("_Part")


def measure_chart(picture: Picture, chart: Chart, tone: str = "measured") -> ChartMeasurement:
    """Measure a camera from a picture of the chart.

    The marks and dots give the position of the chart and the distortion (ISO 17850:2015); the gray
    steps the tone response (ISO 14524:2009), noise and dynamic range (ISO 15739:2023); edges and
    star the spatial frequency response (ISO 12233:2017); dead leaves the texture response
    (ISO/TS 19567-2:2019); patches the colour error (CIEDE2000); dots the lateral shift of colours
    (ISO 19084:2015); the background the fall-off (ISO 17957:2015). What cannot be measured is left
    out, with its reason among the notes.

    Parameters
    ----------
    picture : Picture
        Gray or RGB.
    chart : Chart
        The chart that it shows.
    tone : "measured", "linear", "srgb" or "bt709"
        The tone response; the default takes it from the gray steps.

    Returns
    -------
    ChartMeasurement

    Raises
    ------
    InputError
        If the tone response is unknown.
    PictureError
        If the chart or its gray steps cannot be found.
    """
    check_choice("tone response", tone, TONES)
    if picture.colour == "planes":
        raise PictureError(f"{picture.origin} has planes: a chart is measured in gray or RGB")
    pixels = picture.pixels().astype(np.float64)
    pixels = pixels[..., np.newaxis] if pixels.ndim == 2 else pixels
    rounding = 0.0 if picture.bits is None else 1 / picture.full_scale
    gray = _luma(pixels)
    found = find(gray, chart)
    mapping = found.mapping
    response, falloff, remarks = measure_tone(pixels, chart, mapping, tone, rounding)
    notes = [*found.notes, *remarks]

    def part(name: str, measure: Callable[[], _Part], otherwise: _Part) -> _Part:
        try:
            return measure()
        except PictureError as error:
            notes.append(f"no {name}: {error}")
            return otherwise

    light = _light(pixels, response, falloff)
    straight = gray if response.kind == "linear" else _luma(_relative(pixels, response))
    none: list[NoiseModel] = []
    noise = part("noise", lambda: measure_noise(pixels, chart, mapping, response, rounding), none)
    clipped = clipped_samples(pixels, rounding)
    edges = measure_edges_of(straight, clipped, chart, mapping)
    for reason in dict.fromkeys(edge.reason for edge in edges if edge.edge is None):
        count = sum(edge.reason == reason for edge in edges)
        notes.append(f"{count} of {len(edges)} edges left out: {reason}")
    return ChartMeasurement(
        picture.frame, chart, found, response, falloff, tuple(noise), tuple(edges),
        part("star", lambda: _star(light, clipped, chart, mapping), None),
        part("texture", lambda: _texture(light, clipped, chart, mapping), None),
        part(
            "colours",
            lambda: measure_colours(pixels, chart, mapping, response, falloff, rounding), None,
        ),
        tuple(part("shift of colours", lambda: measure_colour_shift(pixels, chart, found), [])),
        tuple(notes),
    )  # fmt: skip


def _luma(pixels: Float64) -> Float64:
    if pixels.shape[2] == 1:
        return pixels[..., 0]
    return np.asarray(luma(pixels), np.float64)


def _relative(pixels: Float64, tone: Tone) -> Float64:
    """Linear light as a share of full scale."""
    full = tone.decode(np.ones((1, pixels.shape[2])))[0]
    return np.asarray(tone.decode(pixels) / full)


def _light(pixels: Float64, tone: Tone, falloff: Falloff) -> Float64:
    """Linear light on the chart's scale, fall-off removed, luma of the channels."""
    height, width = pixels.shape[:2]
    x, y = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
    return _luma(tone.decode(pixels)) / falloff.at(np.stack([x, y], axis=-1))


def _star(light: Float64, clipped: Bools, chart: Chart, mapping: Mapping) -> StarResponse:
    left, top, right, bottom = star_region(light.shape, chart, mapping)
    check_unclipped(clipped[top:bottom, left:right])
    return measure_star(light, chart, mapping)


def _texture(light: Float64, clipped: Bools, chart: Chart, mapping: Mapping) -> Texture:
    """The texture response, with the noise that even patches of about the same light show."""
    top, left, side = leaves_region(light.shape, chart, mapping)
    check_unclipped(clipped[top : top + side, left : left + side])
    patches = [*background_patches(chart), *chart.steps]
    residuals, lights = [], []
    for patch in patches:
        if patch.light[0] < chart.leaves.disks[:, 3].min():
            continue
        samples = samples_of(light[..., np.newaxis], patch, mapping)
        if samples is not None:
            residuals.append(detrended(samples[..., 0]))
            lights.append(patch.light[0])
    if not residuals or max(float(r.std()) for r in residuals) == 0:
        return measure_texture(light, np.zeros((side, side)), 0.0, chart, mapping)
    # The variance is taken for a line in the light; the leaves' mean is what counts then.
    variance = np.array([float((r**2).mean()) for r in residuals])
    design = np.stack([np.ones(len(lights)), np.array(lights)], axis=1)
    inverse = np.linalg.pinv(design)
    misfit = variance - design @ (inverse @ variance)
    mean = np.array([1.0, float(light[top : top + side, left : left + side].mean())])
    power = max(0.0, float(mean @ inverse @ variance))
    spread = float(misfit @ misfit) / max(1, len(lights) - 2)
    error = math.sqrt(spread * float(mean @ inverse @ inverse.T @ mean))
    spectrum = noise_spectrum([r for r in residuals if r.std() > 0], side)
    relative = error / power if power > 0 else 0.0
    return measure_texture(light, power * spectrum, relative, chart, mapping)
