"""Bit planes side by side, the most significant first."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture
from magnetite.views.style import bare, new_figure

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_COLUMNS = 4


def planes_figure(picture: Picture) -> Figure:
    """Every bit plane, a 0 black and a 1 white; of RGB pictures each channel in its colour.

    Raises
    ------
    PictureError
        If the picture is float, or neither gray nor RGB.
    """
    if picture.bits is None:
        raise PictureError(f"{picture.origin}: a float picture has no bit planes; write 8 bits")
    if picture.colour == "planes":
        raise PictureError(f"{picture.origin}: bit planes are shown of gray and RGB pictures")
    rows = math.ceil(picture.bits / _COLUMNS)
    cell = (1280 - 32 - 12 * (_COLUMNS - 1)) / _COLUMNS
    tall = cell * min(1.2, picture.height / picture.width)
    height = 60 + rows * (tall + 44)
    figure = new_figure(1280, height)
    figure.suptitle(
        f"Bit planes of {picture.origin} ({picture.describe()})", x=0.0125, y=1 - 16 / height,
        ha="left", va="top", fontsize=13,
    )  # fmt: skip
    for position in range(picture.bits):
        weight = picture.bits - 1 - position
        ones = (picture.samples >> weight) & 1
        left = 16 + (position % _COLUMNS) * (cell + 12)
        top = 60 + (position // _COLUMNS) * (tall + 44) + 28
        axes = figure.add_axes((left / 1280, 1 - (top + tall) / height, cell / 1280, tall / height))
        axes.imshow(ones.astype(float), cmap="gray", vmin=0, vmax=1, interpolation="auto")
        axes.set_anchor("NW")
        bare(axes)
        rank = {0: " (top)", picture.bits - 1: " (lowest)"}.get(position, "")
        axes.set_title(
            f"plane {weight}{rank}: {2**weight} dn, {100 * ones.mean():.1f} % ones", fontsize=9.5,
            loc="left", pad=4,
        )  # fmt: skip
    return figure
