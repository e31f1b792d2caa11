"""A sweep as one figure: the same picture, and the same position of it, at every value."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from magnetite.core.operations.sweep import Axis, Sweep, Swept
from magnetite.core.picture import Picture
from magnetite.core.picture.region import Region
from magnetite.core.quantities import figure, read_quantity
from magnetite.views.sheet import WIDTH, busiest, cell_width, sheet
from magnetite.views.style import COLOURS, MARKERS, label_ends

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

#: Height of the curves below the pictures, px, and the width of a cell that takes whole titles.
_CURVES, _NARROW = 300, 280
#: Most columns of a sweep of one setting.
_ACROSS = 4
#: Metrics whose curves are drawn.
_MOST_CURVES = 3


def sweep_figure(made: Sweep, crop: Region | None = None, *, curve: bool = False) -> Figure:
    """Draw all pictures of a sweep at one scale, one setting along the rows of the figure.

    Two settings make rows and columns.

    Parameters
    ----------
    made : Sweep
    crop : Region, optional
        The position that is enlarged; where most goes on in the reference if left out.
    curve : bool
        Whether the scores are drawn over the setting, below the pictures.

    Raises
    ------
    PictureError
        If the crop leaves the picture, or it is neither gray nor RGB.
    """
    crop = crop or busiest(made.reference, wide=True)
    grid, columns = _grid(made)
    wide = cell_width(columns) >= _NARROW
    pictures = [cell.picture if isinstance(cell, Swept) else cell and cell[1] for cell in grid]
    titles = [
        _title(made, cell, wide) if isinstance(cell, Swept) else cell[0] if cell else ""
        for cell in grid
    ]
    heading = f"{made.source.origin}: {made.text}"
    below = _CURVES if curve else 0
    drawn = sheet(pictures, titles, crop, columns, heading=heading, below=below)
    if curve:
        _draw_curves(drawn, made)
    return drawn


#: A position of the figure: a picture of the sweep, another one with its title, or nothing.
_Position = Swept | tuple[str, Picture] | None


def _grid(made: Sweep) -> tuple[list[_Position], int]:
    """The cells of the figure row by row, and the number of columns."""
    first: list[_Position] = [("reference", made.reference)]
    if made.source is not made.reference:
        first.append((f"before\n{made.source.describe()}", made.source))
    if len(made.axes) == 1:
        positions = [*first, *made.cells]
        columns = len(positions) if len(positions) <= _ACROSS else _even(len(positions))
        return positions, columns
    down, across = _down_and_across(made)
    columns = len(made.axes[across].values) + 1
    rows = max(len(made.axes[down].values), len(first))
    table: list[list[_Position]] = [[None] * max(columns, _ACROSS) for _ in range(rows)]
    for row, position in enumerate(first):
        table[row][0] = position
    for cell in made.cells:
        table[cell.position[down]][cell.position[across] + 1] = cell
    return [position for row in table for position in row], len(table[0])


def _down_and_across(made: Sweep) -> tuple[int, int]:
    """Which setting changes from row to row: the one with fewer values; and the other one."""
    first, second = (len(axis.values) for axis in made.axes)
    return (1, 0) if first > second else (0, 1)


def _even(count: int) -> int:
    """Columns that leave the fewest positions of the last row empty: 4 or 3 across, or 5."""
    return min((_ACROSS, 5, 3), key=lambda columns: -count % columns)


def _title(made: Sweep, cell: Swept, wide: bool) -> str:
    """The setting, the rate, the scores."""
    rate = [] if cell.bpp is None else [f"{figure(cell.bpp)} bpp"]
    scores = [
        f"{metric} {figure(cell.scores.get(metric))} {made.scored.declared(metric).unit}".rstrip()
        for metric in made.metrics
    ]
    first = ", ".join(made.settings(cell))
    if wide:
        return f"{first}\n{', '.join([*rate, *scores])}"
    return "\n".join([first, ", ".join([*rate, *scores[:1]]), ", ".join(scores[1:])])


def _draw_curves(drawn: Figure, made: Sweep) -> None:
    """A pair of axes for each metric, side by side at the foot of the figure."""
    height = drawn.get_figheight() * drawn.dpi
    names = _lines(made)
    room = 90 + 7 * max(len(f"{made.axes[0].name}={name}") if name else 0 for name in names)
    across = min(len(made.metrics), _MOST_CURVES)
    width = (WIDTH - 40) / max(across, 2)
    for number, metric in enumerate(made.metrics[:across]):
        left = 80 + number * width
        axes = drawn.add_axes(
            (left / WIDTH, 56 / height, (width - room - 30) / WIDTH, (_CURVES - 110) / height)
        )
        _draw_curve(axes, made, metric, names)


def _lines(made: Sweep) -> tuple[str, ...]:
    """Names of the lines: the values of the setting with fewer values, if there are two."""
    return made.axes[_down_and_across(made)[0]].values if len(made.axes) == 2 else ("",)


def _draw_curve(axes: Axes, made: Sweep, metric: str, names: tuple[str, ...]) -> None:
    down, across = _down_and_across(made) if len(made.axes) == 2 else (None, 0)
    axis = made.axes[across]
    numbers, unit = _numbers(axis)
    ends = []
    for line, name in enumerate(names):
        points = sorted(
            (numbers[cell.position[across]], cell.scores[metric])
            for cell in made.cells
            if (down is None or cell.position[down] == line)
            and math.isfinite(cell.scores.get(metric, math.nan))
        )
        if points:
            colour = COLOURS[line % len(COLOURS)]
            axes.plot(*zip(*points, strict=True), marker=MARKERS[line % len(MARKERS)], color=colour)
            ends.append((points[-1][1], name, colour))
    if min(numbers) > 0 and max(numbers) / min(numbers) > 8:
        axes.set_xscale("log")
        axes.minorticks_off()
    axes.set_xticks(numbers, [value.removesuffix(unit) for value in axis.values])
    axes.set_xlabel(f"{axis.name} ({unit})" if unit else axis.name)
    metric_unit = made.scored.declared(metric).unit
    axes.set_title(f"{metric} ({metric_unit})" if metric_unit else metric)
    axes.grid(axis="y")
    if down is not None:
        label_ends(axes, [(end, f"{made.axes[down].name}={name}", c) for end, name, c in ends])


def _numbers(axis: Axis) -> tuple[list[float], str]:
    """Values of a setting as numbers with their common unit; word values by their positions."""
    try:
        read = [read_quantity(value) for value in axis.values]
    except ValueError:
        return [float(k) for k in range(len(axis.values))], ""
    units = {quantity.unit for quantity in read}
    if len(units) > 1:
        return [float(k) for k in range(len(axis.values))], ""
    return [float(quantity.number) for quantity in read], units.pop()
