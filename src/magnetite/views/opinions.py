"""Opinions on pictures, and metrics against them."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from magnetite.core.opinion.threshold import right_answers
from magnetite.views.style import COLOURS, MARKERS, QUIET, headline, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from magnetite.core.opinion.analysis import OpinionRow, Opinions, PsychometricFunction
    from magnetite.experiment.agreements import Compared

#: Rows that are drawn at most, so that labels can be read.
_MOST = 40
_TITLES = {
    "pairs": "Scale values (JND)", "rating": "Mean opinion scores", "threshold": "Thresholds",
}  # fmt: skip


def opinions_figure(found: Opinions, made: Compared | None) -> Figure:
    """Each figure with its 95 % interval, and the metrics against the opinions."""
    figure = new_figure(1280, 800)
    people = f"{len(found.raters)} {'simulated raters' if found.all_simulated else 'raters'}"
    people += ", some simulated" * (found.simulated and not found.all_simulated)
    left_out = f", {len(found.left_out)} left out" if found.left_out else ""
    headline(figure, f"{_TITLES[found.test.design]} of {people}{left_out}; bars: 95 %")
    count = len(found.functions[:3]) if made is None else min(3, len(made.agreements))
    grid = figure.add_gridspec(
        max(1, count), 2 if count else 1, width_ratios=[1.7, 1] if count else None,
        left=0.27, right=0.98, top=0.91, bottom=0.08, wspace=0.2, hspace=0.5,
    )  # fmt: skip
    _draw_figures(figure.add_subplot(grid[:, 0]), found)
    if made is not None:
        for k, name in enumerate(list(made.agreements)[:count]):
            _draw_metric(figure.add_subplot(grid[k, 1]), name, found, made)
    for k, one in enumerate(found.functions[:count] if made is None else ()):
        _draw_function(figure.add_subplot(grid[k, 1]), one)
    return figure


def _draw_function(axes: Axes, one: PsychometricFunction) -> None:
    """Shares of right answers, as large as there are answers, and the function through them."""
    share = one.right / one.shown
    axes.scatter(one.levels, 100 * share, s=12 + 3 * one.shown, color=COLOURS[0], alpha=0.7)
    x = np.geomspace(one.levels[0] / 1.2, one.levels[-1] * 1.2, 200)
    axes.plot(x, 100 * right_answers(x, one.threshold, one.slope), color=COLOURS[1])
    axes.axvline(one.threshold, color=QUIET, lw=1, ls=":")
    axes.set(xscale="log", ylim=(35, 104), ylabel="right (%)", xlabel="dn rms")
    ticks = one.levels[:: max(1, one.levels.size // 6)]
    axes.set_xticks(ticks, [f"{level:.2g}" for level in ticks])
    axes.minorticks_off()
    axes.set_title(f"{one.content}: {one.kind}, {one.threshold:.3g} dn", fontsize=10)
    axes.grid(True)


def _draw_figures(axes: Axes, found: Opinions) -> None:
    first = found.figures[0].figure if found.figures else ""
    rows = [row for row in found.figures if row.figure == first]
    rows = sorted(rows, key=lambda row: (row.content, row.value))[:_MOST]
    colours = {name: COLOURS[k % len(COLOURS)] for k, name in enumerate(found.test.contents)}
    for height, row in enumerate(rows):
        colour = colours[row.content]
        if row.low is not None and row.high is not None:
            axes.plot([row.low, row.high], [height, height], color=colour, lw=2)
        axes.plot(row.value, height, "o", color=colour, markersize=6)
    axes.set_yticks(range(len(rows)), [_label(row) for row in rows], fontsize=8.5)
    axes.set(ylim=(-0.7, len(rows) - 0.3), xlabel=f"{first} ({rows[0].unit})" if rows else "")
    axes.grid(True, axis="x")


def _label(row: OpinionRow) -> str:
    text = f"{row.content}: {row.condition}"
    return text if len(text) <= 46 else f"{text[:28]}…{text[-17:]}"


def _draw_metric(axes: Axes, name: str, found: Opinions, made: Compared) -> None:
    one, figures = made.agreements[name], made.figures[name]
    for k, (content, stimuli) in enumerate(found.test.contents.items()):
        pairs = [
            (figures[s.name], found.values[s.name].value) for s in stimuli
            if s.name in found.values and np.isfinite(figures.get(s.name, np.nan))
        ]  # fmt: skip
        if pairs:
            axes.plot(
                *np.array(pairs).T, MARKERS[k % len(MARKERS)], color=COLOURS[k % len(COLOURS)],
                markersize=4, label=content,
            )  # fmt: skip
    low, high = axes.get_xlim()
    x = np.linspace(low, high, 120)
    axes.plot(x, one.mapping(x), color=QUIET, lw=1.5)
    axes.set_xlim(low, high)
    axes.set_title(
        f"{name}: Pearson {one.pearson.value:.3f} ({one.pearson.low:.2f} to "
        f"{one.pearson.high:.2f})", fontsize=10,
    )  # fmt: skip
    axes.set_ylabel("opinion", fontsize=9)
    axes.grid(True)
