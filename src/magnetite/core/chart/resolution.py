"""Sharpness of a camera over the field: spatial frequency response of edges and of the star.

ISO 12233:2017, annexes D (edges) and E (sine-modulated star).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Bools, Float64
from magnetite.core.calibrate.fitting import Estimate
from magnetite.core.chart.design import Chart, Square
from magnetite.core.chart.exposure import check_unclipped
from magnetite.core.chart.mapping import Mapping
from magnetite.core.compute.psf import crossing
from magnetite.core.edges.slanted_edge import Edge, measure_edge
from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture
from magnetite.core.picture.picture import frozen
from magnetite.core.picture.region import Region

#: Region of an edge, shares of its length: along it and across it.
_ALONG, _ACROSS = 0.62, 0.58
#: Angles to the axis between which an edge is measured, degrees.
_ANGLES = (1.5, 15.0)
#: Distance from the middle, share of the half diagonal, below which edges have no orientation.
_CENTRAL = 0.1
#: Rings of the star, directions of its modulation, and samples that a part of a ring takes.
_RINGS, _DIRECTIONS, _LEAST_SAMPLES = 24, 4, 24
#: Offsets from the star's cycles at which amplitudes are noise: far enough for parts of a ring.
_OFFSETS = (-20, -12, 12, 20)
#: Share of the star's radius that is used.
_OUTER = 0.97


@dataclass(frozen=True)
class FieldEdge:
    """One edge of the chart; positions in px, frequencies in cycles per px of the picture."""

    x: float
    y: float
    #: Distance from the middle of the picture, share of its half diagonal.
    field: float
    #: Direction in which the light changes, degrees clockwise from the rows.
    direction: float
    #: "radial" where contrast is taken along the radius (the edge lies tangentially), "tangential",
    #: or "centre".
    orientation: str
    #: Contrast of the chart's background to the square.
    contrast: float
    #: None where the edge cannot be measured.
    edge: Edge | None
    reason: str = ""


def measure_edges_of(
    plane: Float64, clipped: Bools, chart: Chart, mapping: Mapping
) -> list[FieldEdge]:
    """Each edge of each square, in the order of the chart.

    Parameters
    ----------
    plane : float array, shape (h, w)
        Gray samples that are linear up to a constant, on 0..1.
    clipped : bool array, shape (h, w, channels)
        Samples at black or full scale: edges in regions with many of these are left out.
    chart : Chart
    mapping : Mapping

    Returns
    -------
    list of FieldEdge
    """
    picture = Picture(frozen(plane), None, "gray", "the chart")
    return [
        _field_edge(picture, clipped, chart, square, side, mapping)
        for square in chart.squares
        for side in range(4)
    ]


def _field_edge(
    picture: Picture, clipped: Bools, chart: Chart, square: Square, side: int, mapping: Mapping
) -> FieldEdge:
    out = math.radians(square.angle + 90 * side)
    normal = np.array([math.cos(out), math.sin(out)])
    at = np.array([square.x, square.y]) + normal * square.side / 2
    x, y = mapping(at)
    step = mapping(at + np.array([-normal[1], normal[0]])) - (x, y)
    # The direction across the edge as it is in the picture: at right angles to its line.
    across = np.array([step[1], -step[0]]) / math.hypot(*step)
    middle = np.array([picture.width, picture.height]) / 2
    away = np.array([x, y]) - middle
    field = float(np.hypot(*away) / np.hypot(*middle))
    contrast = chart.background / square.light
    direction = math.degrees(math.atan2(across[1], across[0])) % 180
    orientation = "centre"
    if field > _CENTRAL:
        along_radius = abs(float(across @ away)) / float(np.hypot(*away))
        orientation = "radial" if along_radius > math.sqrt(0.5) else "tangential"
    made = float(x), float(y), field, direction, orientation, contrast
    try:
        edge = _measured(picture, clipped, square.side * mapping.scale(at), across, (x, y))
    except PictureError as error:
        return FieldEdge(*made, None, str(error))
    return FieldEdge(*made, edge)


def _measured(
    picture: Picture, clipped: Bools, side: float, across: Float64, at: tuple[float, float]
) -> Edge:
    slant = math.degrees(math.atan2(*sorted(np.abs(across))))
    if not _ANGLES[0] <= slant <= _ANGLES[1]:
        raise PictureError("less than 1.5 or more than 15 degrees off an axis")
    size = (_ACROSS * side, _ALONG * side)
    width, height = size if abs(across[0]) > abs(across[1]) else size[::-1]
    left, top = round(at[0] - width / 2), round(at[1] - height / 2)
    if min(left, top) < 0:
        raise PictureError("outside the picture")
    region = Region(left, top, max(1, round(width)), max(1, round(height)))
    check_unclipped(region.within(clipped))
    edge = measure_edge(picture, region)
    if edge.mtf50 is None:
        raise PictureError("no MTF50 up to 1 c/px")
    return edge


@dataclass(frozen=True)
class StarResponse:
    """Response of the star: directions in degrees, frequencies in c/px, shape (directions, f)."""

    direction: Float64
    frequency: Float64
    response: Float64
    #: Standard errors of the responses.
    error: Float64

    @property
    def mean(self) -> tuple[Float64, Float64, Float64]:
        """Frequencies where all directions are known, mean response there, and its error."""
        known = np.isfinite(self.response).all(axis=0)
        error = np.sqrt((self.error[:, known] ** 2).sum(axis=0)) / len(self.direction)
        return self.frequency[known], self.response[:, known].mean(axis=0), error

    @property
    def mtf50(self) -> Estimate | None:
        """Frequency at which the mean of the directions falls to half, c/px; None if none does.

        Where it is below half from the lowest frequency on, that was not measured either.
        """
        frequency, mean, errors = self.mean
        half = crossing(frequency, mean, 0.5)
        if half is None or mean[0] < 0.5:
            return None
        after = int(np.flatnonzero(mean < 0.5)[0])
        share = (half - frequency[after - 1]) / np.diff(frequency)[after - 1]
        own = math.hypot((1 - share) * errors[after - 1], share * errors[after])
        near = slice(max(0, after - 2), after + 2)
        # The slope of a line through four rings: that between two of them is noise as well.
        fall = -float(np.polyfit(frequency[near], mean[near], 1)[0])
        error = own / fall if fall > 0 else math.nan
        return Estimate.of(half, error)


def measure_star(light: Float64, chart: Chart, mapping: Mapping) -> StarResponse:
    """Modulation of the star relative to the chart's, by direction and frequency.

    A sine is fitted to the light of each part of each ring; the contribution of noise to the
    squared amplitude, four times the residual variance over the number of samples, is subtracted.

    Parameters
    ----------
    light : float array, shape (h, w)
        Linear light.
    chart : Chart
    mapping : Mapping

    Returns
    -------
    StarResponse
        NaN where a part holds too few samples.

    Raises
    ------
    PictureError
        If the star leaves the picture.
    """
    star = chart.star
    scale = mapping.scale(np.array([star.x, star.y]))
    left, top, right, bottom = star_region(light.shape, chart, mapping)
    rows, columns = np.mgrid[top:bottom, left:right]
    away = mapping.inverse(np.stack([columns + 0.5, rows + 0.5], axis=-1)) - (star.x, star.y)
    radius, angle = np.hypot(*away.transpose(2, 0, 1)), np.arctan2(away[..., 1], away[..., 0])
    values = light[top:bottom, left:right]
    # Frequency 1/2 c/px of the picture is at the innermost ring.
    inner = star.cycles / np.pi * max(1.0, 1 / scale)
    edges = np.geomspace(inner, _OUTER * star.radius, _RINGS + 1)
    ring = np.digitize(radius, edges) - 1
    # Along a circle light changes at right angles to the radius.
    turned = (angle + np.pi / 2) % np.pi
    part = np.rint(turned / (np.pi / _DIRECTIONS)).astype(int) % _DIRECTIONS
    response, error = (np.full((_DIRECTIONS, _RINGS), np.nan) for _ in range(2))
    frequency = np.full(_RINGS, np.nan)
    for k in range(_RINGS):
        in_ring = ring == k
        if in_ring.any():
            frequency[k] = star.cycles / (2 * np.pi * radius[in_ring].mean()) / scale
        for d in range(_DIRECTIONS):
            chosen = in_ring & (part == d)
            if chosen.sum() >= _LEAST_SAMPLES:
                found = _modulation(values[chosen], angle[chosen], star.cycles)
                response[d, k], error[d, k] = np.array(found) / (star.amplitude / star.mean)
    order = np.argsort(frequency)
    return StarResponse(
        np.arange(_DIRECTIONS) * 180 / _DIRECTIONS,
        frequency[order],
        response[:, order],
        error[:, order],
    )


def star_region(
    shape: tuple[int, ...], chart: Chart, mapping: Mapping
) -> tuple[int, int, int, int]:
    """Left, top, right and bottom of the star, px of the picture.

    Raises
    ------
    PictureError
        If it leaves the picture.
    """
    star = chart.star
    rim = np.linspace(0, 2 * np.pi, 64, endpoint=False)
    circle = np.array([star.x, star.y]) + star.radius * np.stack([np.cos(rim), np.sin(rim)], axis=1)
    shown = mapping(circle)
    (left, top), (right, bottom) = np.floor(shown.min(axis=0)), np.ceil(shown.max(axis=0))
    if min(left, top) < 0 or right > shape[1] or bottom > shape[0]:
        raise PictureError("the star leaves the picture")
    return int(left), int(top), int(right), int(bottom)


def _modulation(values: Float64, angle: Float64, cycles: int) -> tuple[float, float]:
    """Amplitude over mean of a sine of known phase angle, and its standard error.

    The error is the rms amplitude of the noise at nearby cycles: interpolated noise is not white.
    """
    fit, residual = _sine(values, angle, cycles)
    noise = float(residual @ residual) / max(1, values.size - 3)
    square = float(fit[1] ** 2 + fit[2] ** 2) - 4 * noise / values.size
    nearby = [_sine(residual, angle, cycles + by)[0][1:] for by in _OFFSETS]
    return (
        math.sqrt(max(0.0, square)) / float(fit[0]),
        math.sqrt(float(np.mean(np.square(nearby)))) / float(fit[0]),
    )


def _sine(values: Float64, angle: Float64, cycles: int) -> tuple[Float64, Float64]:
    """Fit of a constant, a cosine and a sine of a number of cycles a turn, and its residual."""
    phase = cycles * angle
    design = np.stack([np.ones_like(phase), np.cos(phase), np.sin(phase)], axis=1)
    fit = np.linalg.lstsq(design, values, rcond=None)[0]
    return fit, values - design @ fit
