"""Rate-distortion curves."""

from __future__ import annotations

import math
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from magnetite.core.curves.comparison import hull, mean_curve
from magnetite.core.curves.study import Curves
from magnetite.core.errors import InputError
from magnetite.core.quantities import counted
from magnetite.views.style import COLOURS, MARKERS, headline, label_ends, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_LONGEST_LABEL = 22
#: Ticks of each decade of rates; the second ones where fewer than three of the first are seen.
_TICKS = (1, 2, 5), (1, 1.5, 2, 3, 4, 5, 6, 7, 8, 9)


@dataclass(frozen=True)
class Line:
    """One curve: its label, points of (rate, score), and the number of its colour."""

    label: str
    points: Sequence[tuple[float, float]]
    colour: int = 0
    #: One of several that a mean stands for: thin, pale and not named.
    faint: bool = False
    #: Whether its points are measured ones.
    marked: bool = True


@dataclass(frozen=True)
class Panel:
    """One pair of axes: label of its y axis, its lines, and a level or a hull to mark, if any."""

    title: str
    lines: Sequence[Line]
    level: tuple[float, str] | None = None
    #: Points of the upper convex hull of all lines.
    hull: Sequence[tuple[float, float]] = ()


def curves_figure(curves: Curves) -> Figure:
    """A panel for each metric: the curves of all codecs."""
    count = len(curves.references)
    of = f"{count} pictures, thin, and their mean" if count > 1 else Path(curves.references[0]).name
    labels = _apart(curves.codecs)
    panels = [_panel(curves, metric, labels) for metric in curves.metrics]
    return rate_distortion(panels, f"Rate-distortion curves of {of}")


def _apart(labels: Sequence[str]) -> list[str]:
    """Labels; those that look alike once they are shortened, without the words that they share."""
    made = []
    for label in labels:
        alike = [set(one.split()) for one in labels if _short(one) == _short(label)]
        first, *words = label.split()
        shared = set.intersection(*alike) if len(alike) > 1 else set()
        made.append(" ".join([first, *(word for word in words if word not in shared)]))
    return made


def _panel(curves: Curves, metric: str, labels: Sequence[str]) -> Panel:
    """A colour for each codec: thin lines of single pictures, the named line their mean."""
    single = len(curves.references) == 1
    lines, scored = [], 0
    for number, label in enumerate(labels):
        each = (curves.curve(k, number, metric) for k in range(len(curves.references)))
        own = [points for points in each if points]
        scored = max(scored, len(own))
        if single:
            lines.append(Line(label, own[0] if own else [], number))
            continue
        lines += [Line("", points, number, faint=True) for points in own]
        mean: list[tuple[float, float]] = []
        with suppress(InputError):  # too few points for a mean
            mean = mean_curve(own)
        lines.append(Line(label, mean, number, marked=False))
    best: list[tuple[float, float]] = []
    if single and curves.better(metric) == "higher":
        with suppress(InputError):  # too few points, or all alike
            best = hull([p for line in lines for p in line.points])
    unit, count = curves.scored.declared(metric).unit, len(curves.references)
    title = f"{metric} ({unit})" if unit else metric
    if scored < count:
        title += f", {scored} of {count} pictures"
    return Panel(title, lines, hull=best)


def rate_distortion(panels: Sequence[Panel], title: str) -> Figure:
    """Draw scores over rate in bits per pixel on a logarithmic axis, lines named at their ends."""
    figure = new_figure(1280, 640)
    headline(figure, title)
    all_axes = figure.subplots(1, len(panels), squeeze=False)[0]
    longest = max((len(_short(line.label)) for panel in panels for line in panel.lines), default=0)
    margin = 40 + 7.5 * longest  # px next to each pair of axes for the names of its lines
    width = (1280 - 70 * len(panels) - margin * len(panels)) / len(panels)
    for number, axes in enumerate(all_axes):
        left = 70 + number * (width + margin + 70)
        axes.set_position((left / 1280, 0.1, width / 1280, 0.76))
    for axes, panel in zip(all_axes, panels, strict=True):
        _draw(axes, panel)
    return figure


def small_multiples(panels: Sequence[Panel], title: str) -> Figure:
    """The same lines in a panel for each case, up to four across, named once for all."""
    columns = min(4, len(panels)) if len(panels) != 5 else 5
    rows = math.ceil(len(panels) / columns)
    figure = new_figure(1280, 120 + 360 * rows)
    height = 120 + 360 * rows
    headline(figure, title)
    grid = figure.subplots(rows, columns, squeeze=False)
    figure.subplots_adjust(
        left=0.04, right=0.985, top=1 - 120 / height, bottom=60 / height, wspace=0.22, hspace=0.35
    )
    for axes, panel in zip(grid.flat, panels, strict=False):
        _draw(axes, panel, named=False)
    for axes in grid.flat[len(panels) :]:
        axes.set_visible(False)
    figure.legend(
        *grid.flat[0].get_legend_handles_labels(), loc="upper left", ncols=6, frameon=False,
        bbox_to_anchor=(0.03, 1 - 40 / height),
    )  # fmt: skip
    return figure


def _draw(axes: Axes, panel: Panel, *, named: bool = True) -> None:
    axes.set_xscale("log")
    axes.grid(True)
    ends = []
    missing: list[str] = []
    endless = 0
    if panel.hull:
        _draw_hull(axes, panel.hull)
    for line in panel.lines:
        colour = COLOURS[line.colour % len(COLOURS)]
        finite = sorted(p for p in line.points if np.isfinite(p[1]))
        if not finite:
            if line.points:
                _mark_exact(axes, line, colour)
            else:
                missing.append(line.label)
            continue
        endless += sum(math.isinf(score) for _, score in line.points)
        rates, scores = np.array(finite).T
        if line.faint:
            axes.plot(rates, scores, color=colour, lw=0.8, alpha=0.35, marker="")
            continue
        marker = MARKERS[line.colour % len(MARKERS)] if line.marked else ""
        width = 1.6 if line.marked else 2.6
        axes.plot(rates, scores, color=colour, marker=marker, lw=width, label=line.label)
        ends.append((float(scores[-1]), _short(line.label), colour))
    omitted = f"; {counted(endless, 'infinite value')} not drawn" if endless else ""
    axes.set_title(panel.title + omitted, fontsize=None if named else 10)
    if missing:
        axes.text(
            0.02, 0.02, "no mean: too few points, or no shared rate:\n" + "\n".join(missing),
            transform=axes.transAxes, fontsize=9, color="#555555", va="bottom",
        )  # fmt: skip
    if panel.level is not None:
        height, words = panel.level
        axes.axhline(height, color="#555555", lw=1, ls=(0, (4, 3)), zorder=1.8)
        axes.text(
            0.015, height, words, transform=axes.get_yaxis_transform(), va="center",
            fontsize=9, color="#555555", backgroundcolor="white",
        )  # fmt: skip
    ticks = _rate_ticks(*axes.get_xlim())
    axes.set_xticks(ticks, [f"{t:g}" for t in ticks])
    axes.minorticks_off()
    axes.set_xlabel("rate (bits per pixel, whole file)" if named else "bits per pixel")
    if named:
        label_ends(axes, ends)


def _rate_ticks(low: float, high: float) -> list[float]:
    ticks: list[float] = []
    for numbers in _TICKS:
        if len(ticks) < 3:
            every = (number * 10.0**decade for decade in range(-3, 4) for number in numbers)
            ticks = [tick for tick in every if low <= tick <= high]
    return ticks


def _short(label: str) -> str:
    """A label that fits between two pairs of axes."""
    return label if len(label) <= _LONGEST_LABEL else f"{label[: _LONGEST_LABEL - 1]}…"


def _mark_exact(axes: Axes, line: Line, colour: str) -> None:
    """A codec that loses nothing has a rate and no finite score."""
    rate = min(rate for rate, _ in line.points)
    axes.axvline(rate, color=colour, lw=1.2, ls=(0, (2, 2)))
    axes.text(
        rate, 0.98, f"{line.label}: without loss, {rate:.3g} bpp ", color=colour, fontsize=9,
        ha="right", va="top", rotation=90, transform=axes.get_xaxis_transform(),
    )  # fmt: skip


def _draw_hull(axes: Axes, hull: Sequence[tuple[float, float]]) -> None:
    """Straight in rate, and so curved on a logarithmic axis: a pale band behind the lines."""
    rates, scores = np.array(hull).T
    fine = np.geomspace(rates[0], rates[-1], 400)
    axes.plot(fine, np.interp(fine, rates, scores), color="#d9d9d9", lw=7, zorder=0.5)
    axes.text(
        0.985, 0.03, "gray band: convex hull of all points", transform=axes.transAxes,
        ha="right", fontsize=9, color="#777777",
    )  # fmt: skip
