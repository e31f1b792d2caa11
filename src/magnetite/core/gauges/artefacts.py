"""Gauges of compression artefacts: blocks, false contours."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Annotated, NamedTuple

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.compute.sharing import shared
from magnetite.core.gauges.noise_level import sample_step
from magnetite.core.methods.amplitudes import SampleStep
from magnetite.core.methods.catalogue import ColourPolicy, gauge
from magnetite.core.methods.sums import Part, Sums, Totals, added, root_quotient
from magnetite.core.picture.least_size import check_size

#: Sides of blocks that are looked for, px; how far beyond chance a grid's lines must stand out,
#: standard deviations; how much higher every other line is where those between are none; least
#: side of a picture, px.
_SIDES, _CERTAIN, _HIGHER, _LEAST_SIDE = range(2, 257), 6.0, 1.5, 16
#: Lines that a grid needs to be distinguished from chance where all of them stand out.
_LEAST_LINES = 12
#: Samples of a px's surroundings that say how large a step is without a grid.
_AROUND = 7
#: Heights of false contours: least, in the picture's own dn; largest, in dn of 8 bits; px of
#: even ground on both sides.
_LOW_STEP, _PLATEAU = 1.5, 4


class Grid(NamedTuple):
    """Lines at `offset`, `offset + side`, …: the first samples of blocks. Side 0: no grid."""

    side: int
    offset: int
    #: How much larger steps across the lines are than those around them, in the array's unit.
    excess: float


def find_grid(steps: Float64) -> Grid:
    """The grid of blocks along one axis of a plane, found from steps between neighbours.

    `steps`, the mean absolute step at each position, less the median of the 7 around it, is folded
    at every side of 2 to 256 px of which the picture holds twelve. A quarter of all positions lies
    above the upper quartile; the side and offset whose lines lie there most often, in standard
    deviations of the binomial law, are the grid, if that is at least 6: twelve lines suffice
    where all of them stand out. Where every other line is half as high again as all, the blocks
    are twice as large.
    """
    profile = steps - _running_median(steps)
    high = (profile > np.quantile(profile, 0.75)).astype(float)

    def score(side: int, offset: int) -> float:
        lines = high[(offset - 1) % side :: side]
        spread = math.sqrt(max(1, lines.size) * 3 / 16)
        return float(lines.sum() - lines.size / 4) / spread

    def excess(side: int, offset: int) -> float:
        return max(0.0, float(np.median(profile[(offset - 1) % side :: side])))

    sides = [side for side in _SIDES if side * _LEAST_LINES <= steps.size + side]
    side, offset = max(
        ((side, offset) for side in sides for offset in range(side)), key=lambda g: score(*g)
    )
    if score(side, offset) < _CERTAIN:
        return Grid(0, 0, 0.0)
    other = max(offset, offset + side, key=lambda o: excess(2 * side, o))
    twice = score(2 * side, other) >= _CERTAIN
    if twice and excess(2 * side, other) > _HIGHER * excess(side, offset):
        side, offset = 2 * side, other
    return Grid(side, offset, excess(side, offset))


def _running_median(line: Float64) -> Float64:
    from scipy.ndimage import median_filter

    return np.asarray(median_filter(line, _AROUND, mode="reflect"))


def _steps_across(pixels: Pixels, part: Part) -> Totals:
    """Sums of the steps at each column, how many rows there are, and means at each row."""
    own = pixels[: part.rows]
    columns = np.abs(np.diff(own, axis=1)).sum(axis=0)
    rows = np.abs(np.diff(pixels[: part.rows + 1], axis=0)).mean(axis=1)
    return columns, len(own), rows


def _all_steps(pixels: Pixels) -> Totals:
    """The same of a whole plane; five gauges need them."""
    return shared(_steps_across, pixels, part=Part(len(pixels)))


def _joined(one: Totals, other: Totals) -> Totals:
    return *added(one[:2], other[:2]), np.concatenate([one[2], other[2]])


def _grids(totals: Totals) -> tuple[Grid, Grid]:
    """The grids of rows and of columns."""
    columns, count, rows = totals
    return find_grid(rows), find_grid(columns / count)


def block_grids(pixels: Pixels) -> tuple[Grid, Grid]:
    """The grids of blocks of rows and of columns of one plane; below 16x16 none is sought."""
    if min(pixels.shape) < _LEAST_SIDE:
        return Grid(0, 0, 0.0), Grid(0, 0, 0.0)
    return _grids(_all_steps(pixels))


def _mean_excess(totals: Totals) -> float:
    return float(np.mean([grid.excess for grid in _grids(totals)]))


def _of_blocks(finish: Callable[[Totals], float]) -> Sums:
    return Sums(_steps_across, finish, combine=_joined, overlap=1, all_rows=True)


@gauge(
    "blockiness",
    summary="How much steps at the lines of a grid of blocks exceed those around; the grid is "
    "found automatically.",
    colour=ColourPolicy.LUMA,
    source="after Wang, Bovik and Evans, IEEE ICIP 2000, doi:10.1109/ICIP.2000.899622, "
    "in the picture itself",
    unit="dn",
    values="0 and up",
    smallest="16x16",
    sums=_of_blocks(_mean_excess),
)
def blockiness(pixels: Pixels) -> float:
    """Mean over rows and columns of the excess of their grid (see `find_grid`), on luma.

    0 where no grid is found, as with fewer than twelve blocks a side; `block-width` and its like
    give the grid.
    """
    check_size("blockiness", pixels, 16)
    return _mean_excess(_all_steps(pixels))


def _grid_gauge(name: str, axis: int, what: str, summary: str) -> None:
    def finish(totals: Totals) -> float:
        return float(getattr(_grids(totals)[axis], what))

    @gauge(
        name,
        summary=summary,
        colour=ColourPolicy.LUMA,
        source="own definition: see find_grid",
        unit="px",
        values="0 to 512",
        smallest="16x16",
        sums=_of_blocks(finish),
    )
    def of_grid(pixels: Pixels) -> float:
        """By the grid that `find_grid` finds, on luma."""
        check_size(name, pixels, 16)
        return finish(_all_steps(pixels))


_grid_gauge("block-width", 1, "side", "Width of the blocks that blockiness found; 0 for none.")
_grid_gauge("block-height", 0, "side", "Height of the blocks that blockiness found; 0 for none.")
_grid_gauge("block-left", 1, "offset", "Column where the first whole block begins.")
_grid_gauge("block-top", 0, "offset", "Row where the first whole block begins.")


def _all_contours(pixels: Pixels, peak: float, step: float, part: Part) -> Totals:
    """Squared heights of contours in the array's unit, and pairs of neighbours."""
    plane = pixels * (255 / peak)
    own, below = plane[: part.rows], plane[: part.rows + 1]
    heights = _contours(plane, 255 * _LOW_STEP * step) + _contours(own.T, 255 * _LOW_STEP * step)
    return heights * (peak / 255) ** 2, below[1:].size + own[:, 1:].size


@gauge(
    "false-contours",
    summary="Height of steps between even grounds, rms over the picture.",
    colour=ColourPolicy.EACH,
    source="after Wang, Kum, Chen and Kokaram, IEEE ICIP 2016, doi:10.1109/ICIP.2016.7532841",
    unit="dn",
    values="0 and up",
    smallest="9x9",
    sums=Sums(_all_contours, root_quotient, overlap=2 * _PLATEAU - 1, all_rows=True, digital=True),
)
def false_contours(
    pixels: Pixels, peak: float = 1.0, *, step: Annotated[float | None, SampleStep()] = None
) -> float:
    """Root of the sum of squared heights of false contours over the number of neighbour pairs.

    A false contour is a step between two neighbours of a row or a column, of more than one of
    the picture's own digital numbers (1.5), with at least 4 samples of exactly one value on
    either side: a picture of 10 bits in a file of 16 has them. A gradient in n levels has n - 1
    steps of a height of 1 / (n - 1): the figure grows with the root of that height, as contours
    become visible. Noise and dither, which hide contours, take them away; gray wedges and flat
    artwork have true ones that count too.
    """
    check_size("false-contours", pixels, 9)
    spacing = sample_step(pixels, peak) if step is None else step
    return root_quotient(_all_contours(pixels, peak, spacing, Part(len(pixels))))


def _contours(plane: Pixels, lowest: float) -> float:
    """Sum of the squared heights of contours between rows."""
    steps = np.abs(np.diff(plane, axis=0))
    same = steps == 0
    rest = _PLATEAU - 1
    rows = max(0, steps.shape[0] - 2 * rest)
    even = np.ones((rows, steps.shape[1]), bool)
    for k in range(rest):
        even &= same[k : k + rows] & same[k + rest + 1 : k + rest + 1 + rows]
    inner = steps[rest : rest + rows]
    return float((inner[even & (inner > lowest)].astype(np.float64) ** 2).sum())
