"""Approximations of a picture by few singular values, components or coefficients."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from magnetite.core.analysis.approximation import Approximation, approximate
from magnetite.core.picture import Picture, luma
from magnetite.views.style import COLOURS, QUIET, bare, headline, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


#: Singular values that are drawn as points too.
_FEW = 20


def approximation_figure(picture: Picture, name: str) -> Figure:
    """The best pictures of a few ranks, the error of a rank, components and coefficients.

    Raises
    ------
    PictureError
        If the picture is too large to decompose, or has neither one nor three channels.
    """
    found = approximate(luma(picture.pixels()))
    columns = len(found.ranks) + 1
    wide = (1280 - 60 - 16 * (columns - 1)) / columns
    tall = min(wide * picture.height / picture.width, 300)
    height = 720 + tall
    figure = new_figure(1280, height)
    headline(figure, f"{name}: luma from few numbers, nothing quantized yet")
    for k in range(columns):
        left, bottom = (30 + k * (wide + 16)) / 1280, 1 - (76 + tall) / height
        axes = figure.add_axes((left, bottom, wide / 1280, tall / height))
        whole = k == columns - 1
        shown = luma(picture.pixels()) if whole else found.pictures[k]
        axes.imshow(shown.clip(0, 1), cmap="gray", vmin=0, vmax=1)
        axes.set_anchor("NW")
        bare(axes)
        axes.set_title("the picture" if whole else f"rank {found.ranks[k]}", fontsize=10)
    ((values, rank), (variance, share)) = figure.subplots(2, 2)
    figure.subplots_adjust(
        left=0.06,
        right=0.98,
        top=1 - (120 + tall) / height,
        bottom=50 / height,
        wspace=0.18,
        hspace=0.38,
    )
    _draw_values(values, found)
    _draw_rank(rank, found)
    _draw_variance(variance, found)
    _draw_share(share, found)
    return figure


def _draw_values(axes: Axes, found: Approximation) -> None:
    positive = found.values[found.values > 1e-9 * max(float(found.values[0]), 1e-12)]
    marker = "o" if positive.size <= _FEW else None  # a line of one point would not be seen
    axes.semilogy(np.arange(1, positive.size + 1), positive, color=COLOURS[0], marker=marker)
    axes.yaxis.set_major_formatter("{x:g}")
    axes.yaxis.set_minor_formatter("")
    axes.set(xlabel="number", ylabel="singular value (full scale)")
    axes.set_title("spectrum of singular values", fontsize=10)
    axes.grid(True)


def _draw_rank(axes: Axes, found: Approximation) -> None:
    axes.plot(np.arange(found.rank_error.size), 255 * found.rank_error, color=COLOURS[0])
    axes.plot(
        found.ranks, [255 * found.rank_error[k] for k in found.ranks], "o", color=COLOURS[0], ms=6
    )
    late = found.break_even > 0.4 * found.rank_error.size  # the words stand where there is room
    axes.axvline(found.break_even, color=COLOURS[1], ls="--")
    axes.annotate(
        f"from rank {math.floor(found.break_even) + 1} on the factors\n"
        "hold more numbers than the picture",
        (found.break_even, 0.92), xycoords=("data", "axes fraction"),
        xytext=(-6 if late else 6, 0), textcoords="offset points", ha="right" if late else "left",
        va="top", color=COLOURS[1], fontsize=9,
    )  # fmt: skip
    axes.set(xlabel="singular values kept", ylabel="rms error (dn of 8 bits)", xlim=(0, None))
    axes.set_ylim(0, None)
    axes.set_title("error of the best picture of a rank", fontsize=10)
    axes.grid(True)


def _draw_variance(axes: Axes, found: Approximation) -> None:
    axes.plot(np.arange(found.variance.size), 100 * found.variance, color=COLOURS[0], marker=".")
    for share in (0.5, 0.9, 0.97):
        count = int((found.variance < share).sum())
        axes.plot(count, 100 * found.variance[count], "o", color=COLOURS[1])
        axes.annotate(
            f"{100 * share:.0f} %: {count} of {found.variance.size - 1}",
            (count, 100 * found.variance[count]), xytext=(9, -12), textcoords="offset points",
            color=COLOURS[1], fontsize=9,
        )  # fmt: skip
    axes.set(xlabel="principal components kept", ylabel="variance kept (%)", xlim=(-1, None))
    axes.set_ylim(0, 104)
    axes.set_title("components of 8x8 patches", fontsize=10)
    axes.grid(True)


def _draw_share(axes: Axes, found: Approximation) -> None:
    lines = ((found.block_error, "cosine transform of 8x8 blocks"),
             (found.whole_error, "Fourier transform of the whole picture"))  # fmt: skip
    for number, (errors, label) in enumerate(lines):
        axes.plot(100 * found.shares, 255 * errors, color=COLOURS[number], label=label)
    for share in (0.2, 1, 5, 10):
        axes.axvline(share, color=QUIET, lw=1, ls=":")
    axes.set_xscale("log")
    ticks = [0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100]
    axes.set_xticks(ticks, [f"{tick:g}" for tick in ticks])
    axes.minorticks_off()
    axes.set(xlabel="largest coefficients kept (%)", ylabel="rms error (dn of 8 bits)")
    axes.set_ylim(0, None)
    axes.set_title("error of a share of the coefficients", fontsize=10)
    axes.legend(frameon=False)
    axes.grid(True)
