"""Figures of the test chart: the chart to print, and a camera that was measured from it."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from magnetite.core.chart.resolution import FieldEdge
from magnetite.core.chart.result import COMPARED, ChartMeasurement
from magnetite.core.picture import Picture
from magnetite.views.style import (
    CHANNELS,
    COLOURS,
    DOTS_PER_INCH,
    QUIET,
    bare,
    fitted,
    headline,
    new_figure,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_CHANNELS = {**dict(CHANNELS), "gray": "#444444"}
#: Length of an edge's stroke in the map, share of the picture's width.
_STROKE = 0.03


def printed(picture: Picture) -> Figure:
    """The chart alone, to fill a page."""
    figure = new_figure(picture.width * DOTS_PER_INCH / 300, picture.height * DOTS_PER_INCH / 300)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.imshow(picture.pixels(), interpolation="none", aspect="auto")
    axes.set_axis_off()
    return figure


def chart_figure(measured: ChartMeasurement, name: str) -> Figure:
    """Sharpness over the field, responses, tone response and noise of a measured camera."""
    figure = new_figure(1280, 800)
    headline(figure, f"Camera of {fitted(name, 420)}: {_answer(measured)}")
    field = figure.add_axes((0.005, 0.47, 0.56, 0.43))
    responses = figure.add_axes((0.645, 0.52, 0.335, 0.37))
    tone = figure.add_axes((0.06, 0.075, 0.255, 0.305))
    noise = figure.add_axes((0.385, 0.075, 0.255, 0.305))
    colours = figure.add_axes((0.715, 0.075, 0.265, 0.305))
    _draw_field(figure, field, measured)
    _draw_responses(responses, measured)
    _draw_tone(tone, measured)
    _draw_noise(noise, measured)
    _draw_colours(colours, measured)
    return figure


def _answer(measured: ChartMeasurement) -> str:
    words = [
        f"MTF50 {estimate.value:.3f} c/px in the {words}"
        for words, estimate in measured.sharpness().items()
        if words == "centre"
    ]
    model = measured.main_noise
    if model is not None and math.isfinite(model.full_well.value):
        words.append(f"read noise {model.read_electrons.value:.3g} e")
        words.append(f"full well {model.full_well.value:.4g} e")
    words.append(f"distortion {round(measured.distortion.value, 2) + 0.0:.2f} %")
    return ", ".join(words)


def _draw_field(figure: Figure, axes: Axes, measured: ChartMeasurement) -> None:
    """Each edge as a stroke along it, coloured by its MTF50."""
    from matplotlib.cm import ScalarMappable
    from matplotlib.colors import Normalize

    frame = measured.frame
    axes.set(xlim=(0, frame.width), ylim=(frame.height, 0), aspect="equal")
    bare(axes)
    edges = [(edge, edge.edge.mtf50) for edge in measured.edges if edge.edge and edge.edge.mtf50]
    values = [value for _, value in edges] or [0.0, 1.0]
    low, high = min(values), max(values)
    middle = float(np.mean(values))
    # The scale spans 20 % at least, so that differences within the errors look alike.
    low, high = min(low, 0.9 * middle), max(high, 1.1 * middle)
    colours = ScalarMappable(Normalize(low, high), "viridis")
    length = _STROKE * frame.width
    for edge, value in edges:
        _stroke(axes, edge, length, colours.to_rgba(np.array(value)))
    for edge in measured.edges:
        if edge.edge is None:
            _stroke(axes, edge, length, "#cccccc")
    _write_means(axes, measured)
    if edges:
        bar = figure.colorbar(colours, ax=axes, fraction=0.03, pad=0.015)
        bar.ax.set_title("c/px", fontsize=9, loc="left")
    missing = sum(edge.edge is None for edge in measured.edges)
    left_out = f"; {missing} not measured are gray" if missing else ""
    axes.set_title(f"MTF50 of each edge, over the picture{left_out}")


def _stroke(axes: Axes, edge: FieldEdge, length: float, colour: object) -> None:
    along = math.radians(edge.direction + 90)
    dx, dy = length / 2 * math.cos(along), length / 2 * math.sin(along)
    axes.plot(
        [edge.x - dx, edge.x + dx], [edge.y - dy, edge.y + dy], color=colour, lw=7,
        solid_capstyle="butt",
    )  # fmt: skip


def _write_means(axes: Axes, measured: ChartMeasurement) -> None:
    """The mean of each group of eight edges, under it."""
    groups = [measured.edges[k : k + 8] for k in range(0, len(measured.edges), 8)]
    for group in groups:
        values = [edge.edge.mtf50 for edge in group if edge.edge and edge.edge.mtf50]
        if values:
            x = float(np.mean([edge.x for edge in group]))
            y = max(edge.y for edge in group) + 0.012 * measured.frame.width
            axes.text(x, y, f"{np.mean(values):.3f}", ha="center", va="top", fontsize=9)


def _draw_responses(axes: Axes, measured: ChartMeasurement) -> None:
    frequency = np.linspace(0, 0.5, 101)
    curves = [
        np.interp(frequency, edge.edge.frequency, edge.edge.mtf)
        for edge in measured.edges
        if edge.edge is not None
    ]
    if curves:
        low, middle, high = np.percentile(curves, (5, 50, 95), axis=0)
        axes.fill_between(frequency, low, high, color=COLOURS[0], alpha=0.18, lw=0)
        axes.plot(frequency, middle, color=COLOURS[0], label="edges: median, 5 to 95 %")
    if measured.star is not None:
        axes.plot(*measured.star.mean[:2], color=COLOURS[1], label="star, mean of directions")
    if (texture := measured.texture) is not None:
        axes.plot(
            texture.frequency, texture.by_cross, color=COLOURS[2], label="texture, cross spectrum"
        )
        axes.plot(
            texture.frequency, texture.by_power, color=COLOURS[2], ls="--", lw=1.2,
            label="texture, power spectrum",
        )  # fmt: skip
    top = max([1.05, *(float(curve.max()) * 1.02 for curve in curves)])
    axes.set(xlim=(0, 0.5), ylim=(0, min(top, 2.0)), xlabel="spatial frequency (c/px)")
    axes.set_title("Spatial frequency response")
    axes.grid(True)
    if axes.lines:
        axes.legend(frameon=False, fontsize=9)
    else:
        axes.text(0.5, 0.5, "not measured", transform=axes.transAxes, ha="center", color=QUIET)
    axes.axvline(COMPARED, color=QUIET, lw=0.8, ls=":")


def _draw_tone(axes: Axes, measured: ChartMeasurement) -> None:
    tone = measured.tone
    for channel, colour in zip(range(tone.level.shape[1]), _colours(measured), strict=True):
        axes.plot(tone.light, tone.level[:, channel], "o-", color=colour, ms=3.5, lw=1.2)
    axes.set(xlabel="light of the step", ylabel="level (of full scale)")
    _make_logarithmic(axes)
    words = {"measured": "measured curve", "linear": "linear"}.get(tone.kind, tone.kind)
    axes.set_title(f"Tone response: {words}")
    axes.grid(True)


def _make_logarithmic(axes: Axes) -> None:
    """Both axes, with their ticks as plain numbers."""
    from matplotlib.ticker import FuncFormatter, NullFormatter

    axes.set(xscale="log", yscale="log")
    for axis in (axes.xaxis, axes.yaxis):
        axis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
        axis.set_minor_formatter(NullFormatter())


def _draw_noise(axes: Axes, measured: ChartMeasurement) -> None:
    axes.set_title("Noise over signal")
    axes.set(xlabel="signal (of full scale, linear)", ylabel="noise, sd (of full scale)")
    if not measured.noise:
        axes.text(0.5, 0.5, "not measured", transform=axes.transAxes, ha="center", color=QUIET)
        axes.set(xticks=[], yticks=[])
        return
    for model in measured.noise:
        colour = _CHANNELS[model.channel]
        signal = np.array([step.signal for step in model.steps])
        noise = np.array([step.noise for step in model.steps])
        axes.plot(signal, noise, "o", color=colour, ms=3.5, label=model.channel)
        if math.isfinite(model.full_well.value):
            line = np.geomspace(signal.min(), 1, 60)
            variance = model.read.value**2 + line / model.full_well.value
            axes.plot(line, np.sqrt(variance + (model.prnu.value * line) ** 2), color=colour, lw=1)
    _make_logarithmic(axes)
    axes.grid(True)
    axes.legend(frameon=False, fontsize=8.5, title="dots: steps; line: fit", title_fontsize=8.5)


def _draw_colours(axes: Axes, measured: ChartMeasurement) -> None:
    """Shift of red and blue over the field, of a colour picture."""
    if not measured.shifts:
        axes.set_title("Shift of colours")
        words = "gray picture" if len(measured.tone.decoders) == 1 else "not measured"
        axes.text(0.5, 0.5, words, transform=axes.transAxes, ha="center", color=QUIET)
        axes.set(xticks=[], yticks=[])
        return
    middle = np.array([measured.frame.width, measured.frame.height]) / 2
    for shift in measured.shifts:
        away = np.hypot(*(shift.points - middle).T) / np.hypot(*middle)
        outwards = (shift.displacement * (shift.points - middle)).sum(axis=1)
        radial = outwards / np.maximum(np.hypot(*(shift.points - middle).T), 1e-9)
        axes.plot(100 * away, radial, ".", color=_CHANNELS[shift.channel], label=shift.channel)
    low, high = axes.get_ylim()
    reach = max(abs(low), abs(high), 0.05)
    axes.set(ylim=(-reach, reach), xlabel="distance from the middle (% of half diagonal)")
    axes.set_ylabel("outwards (px)")
    error = measured.colours
    words = "" if error is None else f"; colour error {error.mean.value:.2g} ΔE00"
    axes.set_title(f"Shift against green{words}", fontsize=10.5)
    axes.grid(True)
    axes.legend(frameon=False, fontsize=8.5)


def _colours(measured: ChartMeasurement) -> list[str]:
    if len(measured.tone.decoders) == 1:
        return [_CHANNELS["gray"]]
    return [colour for _, colour in CHANNELS]
