"""Maps of where a picture fails, with a colour bar."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from magnetite.core.analysis.maps import Map
from magnetite.core.quantities import significant
from magnetite.views.style import bare, headline, new_figure

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def maps_figure(maps: Sequence[Map], title: str) -> Figure:
    """All maps of one test picture, bright where it fails, each with its own colour bar.

    Errors reach from 0 to the value that 1 % exceed, and SSIM from 1 to 0, in the colours and
    scales of the report; other similarities reach down to the value that 1 % fall below.
    """
    columns = min(2, len(maps))
    rows = -(-len(maps) // columns)
    aspect = maps[0].values.shape[0] / maps[0].values.shape[1]
    height = 70 + rows * (540 * min(aspect, 1.2) + 60)
    figure = new_figure(1280, height)
    headline(figure, title)
    grid = figure.subplots(rows, columns, squeeze=False)
    figure.subplots_adjust(
        left=0.03, right=0.96, top=1 - 80 / height, bottom=20 / height, wspace=0.12, hspace=0.22
    )
    for axes, one in zip(grid.flat, maps, strict=False):
        values = one.values
        low, high = _ends(one)
        colours = "viridis" if one.lower_is_better else "viridis_r"
        image = axes.imshow(values, cmap=colours, vmin=low, vmax=high, interpolation="auto")
        unit = f" ({one.unit})" if one.unit else ""
        axes.set_title(f"{one.name}{unit}: mean {significant(values.mean(), 4)}", fontsize=10)
        bare(axes)
        figure.colorbar(image, ax=axes, fraction=0.035, pad=0.02)
    for axes in grid.flat[len(maps) :]:
        axes.set_visible(False)
    return figure


def _ends(one: Map) -> tuple[float, float]:
    """Values of the darkest and the brightest colour, the lower one first."""
    if one.lower_is_better:
        return 0.0, float(np.quantile(one.values, 0.99)) or 1.0
    low = 0.0 if one.name == "ssim" else float(np.quantile(one.values, 0.01))
    return min(low, 0.999), 1.0
