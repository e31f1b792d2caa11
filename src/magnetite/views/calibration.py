"""Figures of calibrations: photon transfer, and the response to an edge."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from magnetite.core.calibrate.photon_transfer import PhotonTransfer
from magnetite.core.calibrate.signal_levels import ROUNDING
from magnetite.core.compute.psf import disk_transfer, gaussian_transfer
from magnetite.core.edges.slanted_edge import Edge
from magnetite.core.picture import Picture, luma
from magnetite.core.quantities import significant
from magnetite.views.style import CHANNELS, COLOURS, QUIET, bare, headline, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


def photon_transfer_figure(result: PhotonTransfer, unit: str) -> Figure:
    """Variance against mean with the fitted line, and how far the points lie from it."""
    figure = new_figure(1280, 620)
    headline(figure, f"Photon transfer: {result.step}")
    left, right = figure.subplots(1, 2, gridspec_kw={"width_ratios": [3, 2]})
    figure.subplots_adjust(left=0.075, right=0.98, top=0.88, bottom=0.1, wspace=0.2)
    lines = result.colours or {"": result}
    shades = dict(CHANNELS) | {"": COLOURS[0]}
    right.axhspan(-2, 2, color="#eef3f8")
    right.axhline(0, color=QUIET)
    for colour, one in lines.items():
        _draw_levels(left, right, one, colour, shades[colour])
    if not result.colours:
        _mark_floor(left, result, unit)
    left.set(xlabel=f"mean signal ({unit})", ylabel=f"variance from frame to frame ({unit}²)")
    gains = ", ".join(f"{one.gain.value:.5g} {colour}".strip() for colour, one in lines.items())
    left.set_title(f"gain {gains} {unit} per electron")
    left.legend(frameon=False, loc="upper left")
    left.grid(True)
    right.set(xlabel=f"mean signal ({unit})", ylabel="distance from the line (standard errors)")
    squares = ", ".join(f"{one.line.chi_square:.2f}" for one in lines.values())
    right.set_title(f"chi-square per degree of freedom {squares}")
    right.grid(True)
    return figure


def _draw_levels(left: Axes, right: Axes, one: PhotonTransfer, colour: str, shade: str) -> None:
    """Levels of a sensor or of one colour, their line, and how far they lie from it."""
    points, line, used = one.points, one.line, one.points.those_used()
    error = used.errors(line)
    left.errorbar(
        used.mean, used.variance, error, fmt="o", color=shade, markersize=4,
        label=f"{colour or 'levels'} measured",
    )  # fmt: skip
    unused = ~points.used
    if unused.any():
        left.plot(
            points.mean[unused], points.variance[unused], "x", color=shade if colour else QUIET,
            label="not used: near black or full scale, or too few samples" if not colour else None,
        )  # fmt: skip
    x = np.linspace(0, float(points.mean.max()) * 1.02, 50)
    fitted = shade if colour else COLOURS[1]
    left.plot(x, line.at(x), color=fitted, label=None if colour else "fitted line")
    pull = (used.variance - line.at(used.mean)) / error
    right.plot(used.mean, pull, "o", color=shade, markersize=4)


def _mark_floor(axes: Axes, result: PhotonTransfer, unit: str) -> None:
    floor = result.line.intercept.value
    axes.axhline(floor, color=QUIET, lw=1, ls=":")
    axes.annotate(
        f"read noise² {'+ rounding ' if floor > ROUNDING else ''}= {significant(floor, 4)} {unit}²",
        (float(result.points.mean.max()), floor), xytext=(0, 4), textcoords="offset points",
        ha="right", color=QUIET,
    )  # fmt: skip


def edge_figure(edge: Edge, picture: Picture) -> Figure:
    """The region, the edge's profile, and the modulation transfer with the blur that fits it."""
    figure = new_figure(1280, 560)
    words = "not reached" if edge.mtf50 is None else f"{edge.mtf50:.4f} cycles per px"
    headline(figure, f"Slanted edge: MTF50 {words}")
    window, profile, curve = figure.subplots(1, 3, gridspec_kw={"width_ratios": [1, 1.4, 1.8]})
    figure.subplots_adjust(left=0.03, right=0.98, top=0.86, bottom=0.11, wspace=0.22)
    window.imshow(luma(edge.region.of(picture)), cmap="gray", interpolation="nearest")
    bare(window)
    window.set_title(f"region {edge.region}\n{edge.angle:.1f}° off the axis", fontsize=10)
    profile.plot(edge.position, 100 * edge.profile, color=COLOURS[0])
    profile.set(xlabel="distance from the edge (px)", ylabel="% of full scale")
    profile.set_title("edge profile, four samples a px", fontsize=10)
    profile.grid(True)
    draw_transfer(curve, edge)
    return figure


def draw_transfer(axes: Axes, edge: Edge) -> None:
    f = edge.frequency
    axes.axhline(0.5, color=QUIET, lw=1, ls=(0, (4, 3)))
    axes.axvline(0.5, color=QUIET, lw=1, ls=":")
    axes.plot(f, edge.mtf, color=COLOURS[0], label="measured")
    for blur, colour in zip(edge.blurs[:1], COLOURS[1:], strict=False):
        name, _, setting = blur.step.partition(" ")
        width = float(setting.partition("=")[2].removesuffix("px"))
        transfer = gaussian_transfer(width) if name == "gaussian-blur" else disk_transfer(width)
        aperture = np.sinc(f) if name == "gaussian-blur" else 1.0
        label = f"{blur.step} (rms distance {blur.distance:.3f})"
        axes.plot(f, np.abs(transfer(f) * aperture), color=colour, ls="--", label=label)
    axes.plot(f, np.sinc(f), color=QUIET, lw=1, label="a px itself")
    axes.set(xlim=(0, 1), ylim=(0, 1.32), xlabel="cycles per px", ylabel="contrast kept")
    axes.set_title("modulation transfer", fontsize=10)
    axes.annotate("half the sampling rate", (0.5, 0.3), rotation=90, va="center", ha="right",
                  fontsize=8.5, color=QUIET)  # fmt: skip
    axes.legend(frameon=False, loc="upper right")
    axes.grid(True)
