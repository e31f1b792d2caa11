"""The residual of a restoration: itself, how it correlates, where it is strong."""

from __future__ import annotations

import textwrap
from typing import TYPE_CHECKING

import numpy as np

from magnetite.core.analysis.residual import (
    EDGED,
    SMALLEST,
    STRUCTURED,
    clear_positions,
    local_strengths,
    residual,
)
from magnetite.core.arrays import Bools, Float64, Pixels
from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture
from magnetite.core.picture.matching import check_comparable
from magnetite.core.quantities import percent, significant
from magnetite.views.style import COLOURS, QUIET, bare, headline, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

#: Displacements of the autocorrelation, px, and characters of a line of the verdict.
_REACH, _LINE = 8, 150


def residual_figure(before: Picture, after: Picture) -> Figure:
    """Difference scaled for sight, its autocorrelation, and its strength over that of slopes.

    Both plots exclude positions where noise is clipped at black or full scale, as the verdict does.

    Raises
    ------
    PictureError
        If the pictures differ in size, colour or depth, are planes, or are below 24x24.
    """
    check_comparable(before, after)
    found = residual(before, after)
    if found is None:
        raise PictureError(f"the residual is judged on gray and RGB pictures from {SMALLEST} px on")
    first, second = before.luma().pixels(), after.luma().pixels()
    difference = (first - second).astype(np.float64) * before.full_scale
    clear, _ = clear_positions(before.pixels(), after.pixels())
    counted = np.ones(difference.shape, bool) if clear is None else clear
    unit = before.amplitude_unit
    figure = new_figure(1280, 600)
    headline(figure, f"{before.origin} minus {after.origin}")
    verdict = textwrap.fill(found.verdict, _LINE)
    figure.text(16 / 1280, 1 - 36 / 600, verdict, fontsize=11, va="top", linespacing=1.3)
    aspect = before.height / before.width
    width = min(0.42, 0.62 * 600 / 1280 / aspect)
    image = figure.add_axes((0.03, 0.12, width, 0.66))
    left = 0.03 + width + 0.05
    each = (0.985 - left - 0.07) / 2
    reach = float(np.quantile(np.abs(difference), 0.999)) or before.full_scale / 255
    image.imshow((difference / reach / 2 + 0.5).clip(0, 1), cmap="gray", vmin=0, vmax=1)
    image.set_anchor("N")
    bare(image)
    luma = "" if before.colour == "gray" else "luma: "
    key = f"{luma}black −{significant(reach)} {unit}, gray 0, white +{significant(reach)} {unit}"
    image.set_title(key, fontsize=10)
    around = figure.add_axes((left, 0.12, each, 0.66))
    _draw_correlation(around, difference, counted, found.structure)
    strengths = figure.add_axes((left + each + 0.07, 0.12, each, 0.66))
    power, slopes = local_strengths(difference, second.astype(np.float64) * before.full_scale)
    level = float(np.sqrt(np.mean(difference[counted] ** 2)))
    _draw_strengths(strengths, power[counted], slopes[counted], level, found.edges, unit)
    if not counted.all():
        words = f"both plots exclude {percent(1 - counted.mean())} of positions, of clipped noise"
        figure.text(left, 0.015, words, fontsize=9, color=QUIET)
    return figure


def _draw_correlation(axes: Axes, difference: Float64, counted: Bools, structure: float) -> None:
    correlation = _correlation(difference, counted)
    reach = correlation.shape[0] // 2
    shown = correlation.copy()
    shown[reach, reach] = 0
    most = max(0.1, float(np.abs(shown).max()))
    extent = (-reach - 0.5, reach + 0.5, reach + 0.5, -reach - 0.5)
    drawn = axes.imshow(shown, cmap="PuOr", vmin=-most, vmax=most, extent=extent)
    axes.set_anchor("N")
    key = axes.inset_axes((0.0, -0.3, 1.0, 0.05))
    axes.figure.colorbar(drawn, cax=key, orientation="horizontal", label="correlation")
    words = f"structure {structure:.3f} (noise: below {STRUCTURED:g})"
    axes.set_title(f"autocorrelation, without 1 at (0, 0)\n{words}", fontsize=10)
    axes.set_xlabel("px across")
    axes.set_ylabel("px down")


def _correlation(difference: Float64, counted: Bools) -> Float64:
    """Circular autocorrelation around the origin, which is 1, over pairs of counted positions."""
    centred = np.where(counted, difference - difference[counted].mean(), 0)
    products, pairs = (_around(plane) for plane in (centred, counted.astype(np.float64)))
    middle = products.shape[0] // 2, products.shape[1] // 2
    mean = products / np.maximum(pairs, 1)
    return np.asarray(mean / (float(mean[middle]) or 1.0))


def _around(plane: Float64) -> Float64:
    """Sum of the products of a plane with itself at each displacement, the origin in the middle."""
    spectrum = np.abs(np.fft.rfft2(plane)) ** 2
    whole = np.fft.fftshift(np.fft.irfft2(spectrum, s=plane.shape))
    middle = [n // 2 for n in plane.shape]
    reach = min(_REACH, *(m - 1 for m in middle))
    rows, columns = (slice(m - reach, m + reach + 1) for m in middle)
    return np.asarray(whole[rows, columns])


def _draw_strengths(
    axes: Axes, power: Pixels, slopes: Pixels, level: float, edges: float, unit: str
) -> None:
    """Rms of the residual in classes of slope: level for noise, rising where structure was lost.

    `power` and `slopes` are mean squares, each of shape (n,).
    """
    order = np.argsort(slopes)
    classes = np.array_split(order, 20)
    x = [float(np.sqrt(slopes[c].mean())) for c in classes]
    y = [float(np.sqrt(power[c].mean())) for c in classes]
    axes.axhline(level, color=QUIET, ls="--", lw=1.2, label="the same everywhere")
    axes.plot(x, y, "o-", color=COLOURS[0], label="measured, 5 % of positions each")
    if min(x) > 0:
        axes.set_xscale("log")
        low, high = axes.get_xlim()
        ticks = [a * 10.0**b for b in range(-4, 6) for a in (1, 2, 5)]
        axes.set_xticks([t for t in ticks if low <= t <= high])
        axes.xaxis.set_major_formatter("{x:g}")
        axes.minorticks_off()
    axes.set_ylim(0, 1.25 * max(*y, level) or 1)
    axes.set_title(
        f"residual over slope\nedges {edges:+.2f} (noise: below {EDGED:+g})", fontsize=10
    )
    axes.set_xlabel(f"rms slope of the restored picture ({unit}/px)")
    axes.set_ylabel(f"rms of the residual ({unit})")
    axes.legend(frameon=False, loc="upper left", fontsize=9)
