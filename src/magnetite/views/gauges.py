"""Figures of one picture's curves: noise over signal, and the transfer of an edge."""

from __future__ import annotations

from typing import TYPE_CHECKING

from magnetite.core.gauges.noise_level import NoiseCurve
from magnetite.core.operations.gauge import GaugeCurves
from magnetite.views.calibration import draw_transfer
from magnetite.views.style import COLOURS, QUIET, headline, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


def curves_figure(curves: GaugeCurves, name: str) -> Figure:
    """Noise curve and MTF, as far as they are given, side by side."""
    noise, edge = curves.noise, curves.edge
    figure = new_figure(1280, 560)
    headline(figure, f"Curves of {name}")
    drawn = [noise is not None, edge is not None]
    panels = list(figure.subplots(1, sum(drawn), squeeze=False)[0])
    figure.subplots_adjust(left=0.06, right=0.98, top=0.86, bottom=0.11, wspace=0.16)
    if noise is not None:
        _draw_noise(panels[0], noise)
    if edge is not None:
        draw_transfer(panels[-1], edge)
        words = "not reached" if edge.mtf50 is None else f"{edge.mtf50:.4f} cycles per px"
        panels[-1].set_title(
            f"modulation transfer, edge in {edge.region}: MTF50 {words}", fontsize=10
        )
    return figure


def _draw_noise(axes: Axes, noise: NoiseCurve) -> None:
    """The points with their uncertainty, and the line of shot noise fitted to them."""
    axes.errorbar(
        noise.signal, noise.sd, 2 * noise.error, fmt="o-", color=COLOURS[0], markersize=4,
        label="smoothest positions, 95 %",
    )  # fmt: skip
    axes.set(xlabel="signal (dn of 8 bits)", ylabel="noise sd (dn of 8 bits)", xlim=(0, 255))
    axes.set_ylim(0, max(0.1, 1.25 * float((noise.sd + 2 * noise.error).max())))
    axes.set_title("noise over signal", fontsize=10)
    axes.annotate(
        "texture as fine as the noise counts as noise", (0.98, 0.03), xycoords="axes fraction",
        ha="right", fontsize=8.5, color=QUIET,
    )  # fmt: skip
    axes.legend(frameon=False, loc="upper left")
    axes.grid(True)
