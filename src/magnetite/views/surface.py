"""Intensity as a landscape."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.picture import Picture, luma
from magnetite.core.picture.region import Region
from magnetite.views.style import bare, headline, new_figure

if TYPE_CHECKING:
    from matplotlib.figure import Figure

#: The landscape has no more facets than this along a side; larger regions are averaged.
_MOST_FACETS = 140


#: Least side of the ground, of the longer one: of a single row a ribbon is seen.
_LEAST_SIDE = 0.08
#: Rows or columns that have no room for ticks.
_FEW_TICKS = 2
#: From where the landscape is seen unless said otherwise, degrees.
TURN, TILT = -68.0, 48.0


def surface_figure(
    picture: Picture,
    name: str,
    region: Region | None = None,
    *,
    turn: float = TURN,
    tilt: float = TILT,
) -> Figure:
    """Luma of a region as heights, next to the region itself.

    It is seen from a direction that turns about the vertical, and from a height above the plane,
    both in degrees; -90 is from the lower edge of the picture, 90 is from above.

    Raises
    ------
    PictureError
        If the region leaves the picture.
    """
    region = region or Region(0, 0, picture.width, picture.height)
    samples = region.of(picture)
    plane = luma(samples).astype(np.float64) * picture.full_scale
    tile = max(1, -(-max(plane.shape) // _MOST_FACETS))
    rows, columns = (max(1, n // tile) for n in plane.shape)
    cut = plane[: rows * tile, : columns * tile]
    step = (min(tile, cut.shape[0]), min(tile, cut.shape[1]))
    heights = cut.reshape(rows, step[0], columns, step[1]).mean(axis=(1, 3))
    figure = new_figure(1280, 640)
    averaged = "" if max(step) == 1 else f", averaged over {step[1]}x{step[0]} px"
    title = f"{name}: luma of {region} as heights{averaged}"
    headline(figure, title)
    image = figure.add_axes((0.03, 0.08, 0.26, 0.8))
    image.imshow(samples.clip(0, 1), cmap="gray", vmin=0, vmax=1, interpolation="nearest")
    bare(image)
    axes: Any = figure.add_axes((0.3, 0.0, 0.68, 0.98), projection="3d")
    x, y, heights = _edged(region, heights, tile)
    axes.plot_surface(
        *np.meshgrid(x, y), heights, cmap="viridis", rcount=len(y), ccount=len(x), linewidth=0,
        antialiased=False, vmin=0, vmax=picture.full_scale,
    )  # fmt: skip
    axes.set(xlabel="x (px)", ylabel="y (px)", zlabel=picture.amplitude_unit)
    for side, ticks in ((rows, axes.set_yticks), (columns, axes.set_xticks)):
        if side <= _FEW_TICKS:
            ticks([])
    axes.invert_yaxis()
    axes.view_init(elev=tilt, azim=turn)
    tallest = max(columns, rows)
    sides = (max(side / tallest, _LEAST_SIDE) for side in (columns, rows))
    axes.set_box_aspect((*sides, 0.4), zoom=1.15)
    return figure


def _edged(region: Region, heights: Float64, tile: int) -> tuple[Pixels, Pixels, Float64]:
    """Positions of the heights; a single row or column is drawn from edge to edge."""
    rows, columns = heights.shape
    x = region.left + (np.arange(columns) + 0.5) * tile
    y = region.top + (np.arange(rows) + 0.5) * tile
    if columns == 1:
        x, heights = x[0] + np.array([-0.5, 0.5]) * tile, np.repeat(heights, 2, axis=1)
    if rows == 1:
        y, heights = y[0] + np.array([-0.5, 0.5]) * tile, np.repeat(heights, 2, axis=0)
    return x, y, heights
