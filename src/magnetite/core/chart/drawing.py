"""The chart as a picture: each px is the mean of the light over its square."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.chart.design import DARK, LIGHT, Chart, Dot, Mark, Patch, Square, Star, design
from magnetite.core.chart.leaves import OVERSAMPLING, Leaves
from magnetite.core.degrade.light import to_encoded
from magnetite.core.picture import Picture
from magnetite.core.picture.picture import frozen
from magnetite.core.picture.storing import stored

#: Light of an element at positions x, y; NaN outside it.
Shade = Callable[[Float64, Float64], Float64]
#: Bits of the chart's samples: the darkest step is then known within 0.2 %.
BITS = 16


def chart(width: int = 2400, height: int = 1600, seed: int = 0) -> tuple[Picture, Chart]:
    """A test chart: its picture, and its record.

    Slanted edges in four directions at nine positions and two contrasts, a sine-modulated star,
    dead leaves, 20 gray steps over three decades, 24 colours, and dots, on a grid that five marks
    locate.

    Parameters
    ----------
    width, height : int
        Of the picture, px; at least 900 by 600. Default 2400 by 1600.
    seed : int
        Of the dead leaves.

    Returns
    -------
    Picture, Chart
        The picture is sRGB-encoded (IEC 61966-2-1), RGB, 16 bits.

    Raises
    ------
    InputError
        If the size is too small or too large.

    Examples
    --------
    >>> import magnetite
    >>> picture, chart = magnetite.chart(900, 600)
    >>> picture
    <Picture 900x600 rgb, 16 bits, from chart>
    >>> camera = magnetite.calibrate.chart(picture, chart)
    >>> camera.main_noise is None  # no camera was between
    True
    """
    made = design(width, height, seed)
    return draw(made), made


def draw(made: Chart) -> Picture:
    """A chart as a picture, each px the mean of 8 by 8 positions within it."""
    encoded = to_encoded(light_of_chart(made), standard="srgb")
    samples, _ = stored(encoded, 2.0**BITS - 1, np.dtype(np.uint16))
    return Picture(frozen(samples), BITS, "rgb", "chart")


def light_of_chart(chart: Chart) -> Float64:
    """Linear light of the chart, shape (height, width, 3), 1 for white."""
    canvas = np.full((chart.height, chart.width, 3), chart.background)
    for mark in chart.marks:
        _paint(canvas, (mark.x, mark.y), mark.side / 2, mark_shade(mark))
    for dot in chart.dots:
        _paint(canvas, (dot.x, dot.y), dot.radius, dot_shade(dot))
    for square in chart.squares:
        _paint(canvas, (square.x, square.y), 0.75 * square.side, square_shade(square))
    for patch in (*chart.steps, *chart.colours):
        _paint(canvas, (patch.x, patch.y), patch.side / 2, patch_shade(patch))
    _paint(canvas, (chart.star.x, chart.star.y), chart.star.radius, star_shade(chart.star))
    leaves = chart.leaves
    middle = leaves.left + leaves.size / 2, leaves.top + leaves.size / 2
    _paint(canvas, middle, leaves.size / 2, leaves_shade(leaves))
    return canvas


def mark_shade(mark: Mark) -> Shade:
    """Dark, with a light disk that holds a dark one."""

    def shade(x: Float64, y: Float64) -> Float64:
        away = np.hypot(x - mark.x, y - mark.y)
        inside = np.maximum(np.abs(x - mark.x), np.abs(y - mark.y)) <= mark.side / 2
        ring = (away <= mark.outer) & (away > mark.inner)
        return np.where(inside, np.where(ring, LIGHT, DARK), np.nan)

    return shade


def dot_shade(dot: Dot) -> Shade:
    """Dark within the radius."""
    return lambda x, y: np.where(np.hypot(x - dot.x, y - dot.y) <= dot.radius, DARK, np.nan)


def square_shade(square: Square) -> Shade:
    """One light within a turned square."""
    turn = math.radians(square.angle)

    def shade(x: Float64, y: Float64) -> Float64:
        dx, dy = x - square.x, y - square.y
        along = np.abs(dx * math.cos(turn) + dy * math.sin(turn))
        across = np.abs(dy * math.cos(turn) - dx * math.sin(turn))
        return np.where(np.maximum(along, across) <= square.side / 2, square.light, np.nan)

    return shade


def patch_shade(patch: Patch) -> Shade:
    """One colour within an upright square."""

    def shade(x: Float64, y: Float64) -> Float64:
        inside = np.maximum(np.abs(x - patch.x), np.abs(y - patch.y)) <= patch.side / 2
        return np.where(inside[..., np.newaxis], patch.light, np.nan)

    return shade


def star_shade(star: Star) -> Shade:
    """Cycles around the centre; the mean within half a cycle per px of it."""

    def shade(x: Float64, y: Float64) -> Float64:
        away, angle = np.hypot(x - star.x, y - star.y), np.arctan2(y - star.y, x - star.x)
        light = star.mean + star.amplitude * np.cos(star.cycles * angle)
        light = np.where(away < star.cycles / np.pi, star.mean, light)
        return np.where(away <= star.radius, light, np.nan)

    return shade


def leaves_shade(leaves: Leaves) -> Shade:
    """The uppermost leaf at each position."""
    raster = leaves.raster()

    def shade(x: Float64, y: Float64) -> Float64:
        column, row = (
            np.floor((v - start) * OVERSAMPLING).astype(int)
            for v, start in ((x, leaves.left), (y, leaves.top))
        )
        last = len(raster) - 1
        inside = (np.minimum(row, column) >= 0) & (np.maximum(row, column) <= last)
        light = raster[row.clip(0, last), column.clip(0, last)]
        return np.where(inside, light, np.nan)

    return shade


def _paint(canvas: Float64, centre: tuple[float, float], half: float, shade: Shade) -> None:
    """Draw an element into the px that it reaches."""
    (top, bottom), (left, right) = (
        (max(0, math.floor(v - half)), min(size, math.ceil(v + half)))
        for v, size in zip(centre[::-1], canvas.shape, strict=False)
    )
    fine_x, fine_y = (
        first + (np.arange((last - first) * OVERSAMPLING) + 0.5) / OVERSAMPLING
        for first, last in ((left, right), (top, bottom))
    )
    part = canvas[top:bottom, left:right]
    light = shade(*np.broadcast_arrays(fine_x, fine_y[:, np.newaxis]))
    bare = np.isnan(light)
    share = 1 - _block_means(bare.astype(np.float64), *part.shape[:2])
    part[:] = _block_means(np.where(bare, 0, light), *part.shape[:2]) + part * (1 - share)


def _block_means(fine: Float64, height: int, width: int) -> Float64:
    """Means over the positions within each px: shape (height, width, 1 or 3)."""
    rows = fine.reshape(height, OVERSAMPLING, -1).sum(axis=1)
    return np.asarray(rows.reshape(height, width, OVERSAMPLING, -1).sum(axis=2) / OVERSAMPLING**2)
