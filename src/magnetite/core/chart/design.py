"""Design of the test chart: elements on a grid of 15 by 10 cells.

Positions are px from the top left corner of the chart's picture, so that the centre of its first
px is at (0.5, 0.5); light is linear, 1 for white.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.chart.leaves import Leaves, scatter
from magnetite.core.errors import InputError
from magnetite.core.metrics.colour import light_of_lab

COLUMNS, ROWS = 15, 10
#: Smallest side of a cell, px, and most samples of a chart.
LEAST_CELL, MOST_SAMPLES = 60, 100_000_000
#: Light of the background, of the dark parts of marks and dots, and of the light part of marks.
BACKGROUND, DARK, LIGHT = 0.5, 0.02, 0.95
#: Contrasts of the squares to the background.
CONTRASTS = (4.0, 12.0)
#: Gray steps, and the decades that they span.
STEPS, DECADES = 20, 3.0

#: Of a cell: sides of squares and patches, radii of a mark's disks and of dots, side of a mark,
#: margin of large elements.
_SQUARE, _PATCH, _MARK_DISKS, _DOT = 0.66, 0.72, (0.34, 0.17), 0.07
_MARK, _MARGIN = 0.9, 0.18
#: Slant of the squares: the tangent is 1/10, one way for each contrast.
_SLANT = math.degrees(math.atan(0.1))
_MARK_CELLS = ((0, 0), (14, 0), (14, 9), (0, 9), (1, 3))
_SQUARE_CELLS = tuple((column, row) for row in (1, 5, 8) for column in (1, 7, 12))
_STAR_CELL, _LEAVES_CELL, _LARGE = (3, 2), (9, 2), 3
_STAR_CYCLES = 48
_LIGHTNESSES, _HUES = (40.0, 60.0, 75.0), 8


@dataclass(frozen=True)
class Mark:
    """A dark square that holds a light disk, which holds a dark one."""

    x: float
    y: float
    side: float
    outer: float
    inner: float


@dataclass(frozen=True)
class Dot:
    """A dark disk."""

    x: float
    y: float
    radius: float


@dataclass(frozen=True)
class Square:
    """A dark square with four slanted edges; `angle` in degrees, clockwise."""

    x: float
    y: float
    side: float
    angle: float
    light: float


@dataclass(frozen=True)
class Patch:
    """An upright square of one colour, linear sRGB."""

    x: float
    y: float
    side: float
    light: tuple[float, float, float]


@dataclass(frozen=True)
class Star:
    """Light that varies as `mean + amplitude cos(cycles angle)` within a radius."""

    x: float
    y: float
    radius: float
    cycles: int
    mean: float
    amplitude: float


@dataclass(frozen=True)
class Chart:
    """All elements of a chart."""

    width: int
    height: int
    seed: int
    cell: float
    background: float
    marks: tuple[Mark, ...]
    dots: tuple[Dot, ...]
    squares: tuple[Square, ...]
    steps: tuple[Patch, ...]
    colours: tuple[Patch, ...]
    star: Star
    leaves: Leaves

    def __repr__(self) -> str:
        return (
            f"<Chart {self.width}x{self.height}, seed {self.seed}: {4 * len(self.squares)} edges, "
            f"{len(self.steps)} gray steps, {len(self.colours)} colours, {len(self.dots)} dots>"
        )


def design(width: int = 2400, height: int = 1600, seed: int = 0) -> Chart:
    """Lay out a chart of a size in px.

    Parameters
    ----------
    width, height : int
        Of the picture; the grid of 15 by 10 cells is centred within it. Default 2400 by 1600.
    seed : int
        Of the dead leaves.

    Returns
    -------
    Chart

    Raises
    ------
    InputError
        If a cell would be smaller than 60 px, or the picture larger than 100 million samples.
    """
    cell = math.floor(min(width / COLUMNS, height / ROWS))
    if cell < LEAST_CELL:
        least = f"{COLUMNS * LEAST_CELL}x{ROWS * LEAST_CELL}"
        raise InputError(f"a chart of {width}x{height} px is too small: it takes {least} or more")
    if width * height > MOST_SAMPLES:
        raise InputError(f"a chart of {width}x{height} px is larger than 100 million samples")
    grid = _Grid((width - COLUMNS * cell) / 2, (height - ROWS * cell) / 2, float(cell))
    size = (_LARGE - 2 * _MARGIN) * cell
    left, top = (v - size / 2 for v in grid.centre(_LEAVES_CELL, _LARGE))
    return Chart(
        width, height, seed, float(cell), BACKGROUND,
        marks=tuple(
            Mark(*grid.centre(c), _MARK * cell, *(r * cell for r in _MARK_DISKS))
            for c in _MARK_CELLS
        ),
        dots=tuple(Dot(*grid.corner(c), _DOT * cell) for c in _dot_corners()),
        squares=_squares(grid),
        steps=_steps(grid),
        colours=_colours(grid),
        star=Star(
            *grid.centre(_STAR_CELL, _LARGE), (_LARGE / 2 - _MARGIN) * cell, _STAR_CYCLES, 0.45, 0.4
        ),
        leaves=scatter(left, top, size, seed),
    )  # fmt: skip


@dataclass(frozen=True)
class _Grid:
    left: float
    top: float
    cell: float

    def corner(self, at: tuple[int, int]) -> tuple[float, float]:
        return self.left + at[0] * self.cell, self.top + at[1] * self.cell

    def centre(self, at: tuple[int, int], cells: int = 1) -> tuple[float, float]:
        x, y = self.corner(at)
        return x + cells * self.cell / 2, y + cells * self.cell / 2


def _dot_corners() -> list[tuple[int, int]]:
    """Inner corners of cells that no mark and no large element covers."""
    near_marks = {(c + i, r + j) for c, r in _MARK_CELLS for i in (0, 1) for j in (0, 1)}
    covered = {
        (c + i, r + j)
        for c, r in (_STAR_CELL, _LEAVES_CELL)
        for i in range(1, _LARGE)
        for j in range(1, _LARGE)
    }
    every = [(column, row) for row in range(1, ROWS) for column in range(1, COLUMNS)]
    return [corner for corner in every if corner not in near_marks | covered]


def _squares(grid: _Grid) -> tuple[Square, ...]:
    return tuple(
        Square(
            *grid.centre((column + k, row)), _SQUARE * grid.cell, (-1) ** k * _SLANT,
            BACKGROUND / contrast,
        )
        for column, row in _SQUARE_CELLS
        for k, contrast in enumerate(CONTRASTS)
    )  # fmt: skip


def _steps(grid: _Grid) -> tuple[Patch, ...]:
    """Ten steps in the first row, ten in the last; neighbours differ little from left to right."""
    lights = 0.9 * 10 ** (-DECADES * np.arange(STEPS) / (STEPS - 1))
    half = STEPS // 2
    return tuple(
        Patch(
            *grid.centre((2 + k % half, 0 if k < half else ROWS - 1)), _PATCH * grid.cell,
            (float(light),) * 3,
        )
        for k, light in enumerate(lights)
    )  # fmt: skip


def _colours(grid: _Grid) -> tuple[Patch, ...]:
    """Eight hues of three lightnesses, each with 85 % of the chroma that sRGB has there."""
    patches = []
    for k in range(len(_LIGHTNESSES) * _HUES):
        lightness, hue = _LIGHTNESSES[k // _HUES], 2 * math.pi * (k % _HUES) / _HUES
        centre = grid.centre((1 + k % 12, 6 + k // 12))
        rgb = _linear_srgb(lightness, 0.85 * _largest_chroma(lightness, hue), hue)
        light = (float(rgb[0]), float(rgb[1]), float(rgb[2]))
        patches.append(Patch(*centre, _PATCH * grid.cell, light))
    return tuple(patches)


def _largest_chroma(lightness: float, hue: float) -> float:
    low, high = 0.0, 150.0
    for _ in range(40):
        middle = (low + high) / 2
        rgb = _linear_srgb(lightness, middle, hue)
        if rgb.min() >= 0.0 and rgb.max() <= 1.0:
            low = middle
        else:
            high = middle
    return low


def _linear_srgb(lightness: float, chroma: float, hue: float) -> Float64:
    return light_of_lab(np.array([lightness, chroma * math.cos(hue), chroma * math.sin(hue)]))
