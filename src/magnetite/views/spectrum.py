"""Spectra of pictures: over both frequencies, and over their distance from 0."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from magnetite.core.analysis.spectrum import power, radial_power
from magnetite.core.arrays import Float64
from magnetite.core.errors import InputError
from magnetite.core.picture import Picture, luma
from magnetite.views.style import COLOURS, bare, fitted, headline, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

MOST_PICTURES = 4
#: Range of the spectrum image, dB below its largest value.
_RANGE = 70.0
#: The white of pictures that hold next to nothing, dB: a flat one is black.
_QUIETEST = -30.0


def spectrum_figure(pictures: Sequence[Picture], names: Sequence[str]) -> Figure:
    """Power of each picture's luma over both frequencies, and all of them over one.

    Raises
    ------
    InputError
        If there are no pictures or too many to see.
    """
    if not 1 <= len(pictures) <= MOST_PICTURES:
        raise InputError(f"spectra of 1 to {MOST_PICTURES} pictures are shown, not {len(pictures)}")
    # In dn of 8 bits, so that pictures of any depth compare; one scale for all of them.
    planes = [255 * luma(picture.pixels()).astype(np.float64) for picture in pictures]
    maps = [10 * np.log10(power(plane) + 1e-12) for plane in planes]
    top = max(_QUIETEST, *(float(decibels.max()) for decibels in maps))
    figure = new_figure(1280, 720 if len(pictures) > 1 else 600)
    headline(
        figure,
        f"Power spectrum of luma: white is {top:.0f} dB of 1 dn², black {_RANGE:.0f} dB less; "
        "frequency 0 in the middle",
    )
    columns = 2 if len(pictures) > 1 else 1
    rows = -(-len(pictures) // columns)
    outer = figure.add_gridspec(1, 2, left=0.03, right=0.98, top=0.88, bottom=0.1, wspace=0.14)
    images = outer[0].subgridspec(rows, columns, hspace=0.2, wspace=0.05)
    radial = figure.add_subplot(outer[1])
    for i, (plane, decibels, name) in enumerate(zip(planes, maps, names, strict=True)):
        axes = figure.add_subplot(images[i // columns, i % columns])
        axes.imshow(
            np.fft.fftshift(decibels), cmap="gray", vmin=top - _RANGE, vmax=top,
            extent=(-0.5, 0.5, 0.5, -0.5), aspect="equal",
        )  # fmt: skip
        bare(axes)
        axes.set_title(fitted(name, 560 / columns), fontsize=9.5)
        draw_radial(radial, *radial_power(plane), fitted(name, 400), COLOURS[i])
    radial.set_title("mean over all directions", fontsize=10)
    radial.set_ylabel("dB of 1 dn² of 8 bits")
    radial.legend(frameon=False)
    return figure


def draw_radial(axes: Axes, frequency: Float64, mean: Float64, name: str, colour: str) -> None:
    """One line of power in dB over frequency, both of shape (n,)."""
    axes.plot(frequency, 10 * np.log10(mean + 1e-12), color=colour, label=name)
    axes.set_xlim(0, 0.5)
    axes.set_xlabel("cycles per px")
    axes.grid(True)
