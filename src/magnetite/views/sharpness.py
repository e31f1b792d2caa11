"""Sharpness over the field: edge widths by position, and the slanted edges of a picture."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.edges.slanted_edge import Edge, measure_edges
from magnetite.core.errors import PictureError
from magnetite.core.gauges.edge_width import WidthMap, edge_width_map
from magnetite.core.picture import Picture, luma
from magnetite.core.quantities import figure as spelled
from magnetite.views.style import bare, fitted, headline, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

#: Slanted edges that are measured at most.
_EDGES = 12
#: Of the figure, px: width and largest height of each picture, and the rows above and below.
_ACROSS, _TALLEST, _ABOVE, _BELOW = 535, 640, 90, 20
#: 10-90 % rise of a Gaussian times its MTF50: 2.563 σ and √(ln 2 / 2) / (π σ).
RISE_TIMES_MTF50 = 2.5631031310892007 * math.sqrt(math.log(2) / 2) / math.pi


def sharpness_figure(picture: Picture, name: str) -> Figure:
    """Edge width and MTF50 by position over the picture, and its slanted edges.

    The MTF50 of a tile is that of a Gaussian with its mean edge width; that of a slanted edge is
    measured.

    Raises
    ------
    PictureError
        If the picture is too small or has no edges.
    """
    plane = luma(picture.pixels())
    found = edge_width_map(plane)
    if not np.isfinite(found.widths).any():
        raise PictureError(f"{picture.origin}: no part has enough edges to measure their width")
    edges = measure_edges(picture, _EDGES)
    widths = found.widths[np.isfinite(found.widths)]
    middle = float(np.median(widths))
    high = min(_TALLEST, _ACROSS * picture.height / picture.width)
    figure = new_figure(1280, high + _ABOVE + _BELOW)
    headline(
        figure,
        f"Sharpness of {fitted(name, 500)}: edge width {spelled(middle)} px in the median of "
        f"{widths.size} parts, from {spelled(float(widths.min()))} to "
        f"{spelled(float(widths.max()))}",
    )
    total = high + _ABOVE + _BELOW

    def axes(left: float, width: float) -> Axes:
        return figure.add_axes((left / 1280, _BELOW / total, width / 1280, high / total))

    _draw_edges(axes(20, _ACROSS), plane, edges)
    _draw_map(axes(40 + _ACROSS, _ACROSS), axes(60 + 2 * _ACROSS, 14), plane, found)
    return figure


def _draw_edges(axes: Axes, plane: Pixels, edges: list[Edge]) -> None:
    from matplotlib.patches import Rectangle

    axes.imshow(plane, cmap="gray", vmin=0, vmax=1)
    bare(axes)
    for edge in edges:
        region = edge.region
        box = Rectangle(
            (region.left, region.top), region.width, region.height, fill=False, color="#e8590c",
            linewidth=1.6,
        )  # fmt: skip
        axes.add_patch(box)
        if edge.mtf50 is not None:
            axes.annotate(
                f"{edge.mtf50:.3f}", (region.left, region.top), xytext=(2, -3),
                textcoords="offset points", va="top", color="white", fontsize=8.5,
                bbox={"facecolor": "#e8590c", "edgecolor": "none", "pad": 1.5},
            )  # fmt: skip
    words = f"{len(edges)} slanted edges, with their MTF50 in c/px"
    axes.set_title(words if edges else "no slanted edge was found", fontsize=10)


def _draw_map(axes: Axes, key: Axes, plane: Pixels, found: WidthMap) -> None:
    rows, columns = found.widths.shape
    height, width = plane.shape
    axes.imshow(plane, cmap="gray", vmin=0, vmax=1)
    low, high = np.nanpercentile(found.widths, (2, 98))
    drawn = axes.imshow(
        np.ma.masked_invalid(found.widths), cmap="viridis_r", vmin=low, vmax=max(high, low + 0.1),
        extent=(0, columns * found.tile, rows * found.tile, 0), alpha=0.7, interpolation="nearest",
    )  # fmt: skip
    axes.set_xlim(0, width)
    axes.set_ylim(height, 0)
    bare(axes)
    axes.set_title(
        f"parts of {found.tile}x{found.tile} px; where nothing is drawn there are few edges",
        fontsize=10,
    )
    ticks = np.linspace(low, max(high, low + 0.1), 6).tolist()
    bar = axes.figure.colorbar(drawn, cax=key)
    bar.set_ticks(ticks, labels=[f"{t:.2f} px, {RISE_TIMES_MTF50 / t:.3f} c/px" for t in ticks])
    key.tick_params(labelsize=8)
    key.set_title("width, MTF50 of a Gaussian", fontsize=8.5, loc="left", pad=10)
