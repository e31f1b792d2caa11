"""Contact sheets: pictures side by side at one scale, with the same crop of each below."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from magnetite.core.errors import InputError, PictureError
from magnetite.core.picture import Picture
from magnetite.core.picture.region import Region
from magnetite.views.style import bare, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

WIDTH = 1280
_MARGIN, _GAP, _TITLE = 16, 14, 44
_CROP_COLOUR = "#FFB000"
MAX_PICTURES = 40


def sheet(
    pictures: Sequence[Picture],
    titles: Sequence[str],
    crop: Region | None = None,
    columns: int | None = None,
) -> Figure:
    """Draw pictures side by side, all at one scale, black at 0 and white at full scale.

    Titles may have two lines. With a crop, the same region of each stands enlarged below its
    picture, every sample a square, its frame drawn in the picture.

    Raises
    ------
    InputError
        If there are no pictures or too many to see.
    PictureError
        If the crop leaves a picture, or a picture is neither gray nor RGB.
    """
    if not 1 <= len(pictures) <= MAX_PICTURES:
        raise InputError(f"a sheet shows 1 to {MAX_PICTURES} pictures, not {len(pictures)}")
    columns = columns or _columns(len(pictures), crop)
    rows = math.ceil(len(pictures) / columns)
    cell = (WIDTH - 2 * _MARGIN - (columns - 1) * _GAP) / columns
    widest = max(picture.width for picture in pictures)
    tallest = max(picture.height for picture in pictures)
    # One scale for all, in sheet px per picture px. Small pictures are enlarged.
    scale = min(cell / widest, 640 / tallest)
    crop_height = 0.0 if crop is None else cell * min(crop.height / crop.width, 1.0) + _GAP / 2
    row_height = _TITLE + tallest * scale + crop_height + _GAP
    height = rows * row_height + _MARGIN
    figure = new_figure(WIDTH, height)
    for i, (picture, title) in enumerate(zip(pictures, titles, strict=True)):
        left = _MARGIN + (i % columns) * (cell + _GAP)
        top = (i // columns) * row_height + _TITLE
        frame = (left, top, picture.width * scale, picture.height * scale)
        axes = _place(figure, frame, height)
        _show(axes, _visible(picture, max(1, int(1 / scale))), picture)
        axes.set_title(_fitted(title, cell), fontsize=9.5, loc="left", pad=4)
        if crop is not None:
            _mark(axes, crop)
            shrink = min(1.0, crop.width / crop.height)
            below = (left, top + tallest * scale + _GAP / 2, cell * shrink, crop_height - _GAP / 2)
            _show(_place(figure, below, height), _displayed(crop.of(picture)), None)
    return figure


def busiest(picture: Picture, share: float = 0.2) -> Region:
    """The part of a picture with most going on: where its samples differ most from neighbours.

    Its sides are a share of the picture's shorter one, at least 16 px in larger pictures.
    """
    gray = picture.luma().pixels().astype(np.float64)
    side = min(max(16, round(share * min(gray.shape))), *gray.shape)
    slopes = np.zeros(gray.shape)
    slopes[:, 1:] += np.abs(np.diff(gray, axis=1))
    slopes[1:] += np.abs(np.diff(gray, axis=0))
    sums = np.zeros((gray.shape[0] + 1, gray.shape[1] + 1))
    sums[1:, 1:] = slopes.cumsum(axis=0).cumsum(axis=1)
    total = sums[side:, side:] - sums[:-side, side:] - sums[side:, :-side] + sums[:-side, :-side]
    top, left = np.unravel_index(int(total.argmax()), total.shape)
    return Region(int(left), int(top), side, side)


def _columns(count: int, crop: Region | None) -> int:
    if count <= 4:
        return count
    return min(count, 4 if crop is not None else 3 if count in (5, 6, 9) else 4)


def _place(figure: Figure, frame: tuple[float, float, float, float], height: float) -> Axes:
    left, top, wide, tall = frame
    bottom = height - top - tall
    return figure.add_axes((left / WIDTH, bottom / height, wide / WIDTH, tall / height))


def _visible(picture: Picture, shrink: int) -> NDArray[np.generic]:
    """Samples for display, averaged over squares where the sheet has fewer px than the picture."""
    pixels = picture.pixels()
    if shrink > 1 and min(picture.height, picture.width) >= shrink:
        rows, columns = (n // shrink * shrink for n in pixels.shape[:2])
        squares = pixels[:rows, :columns].reshape(
            rows // shrink, shrink, columns // shrink, shrink, *pixels.shape[2:]
        )
        pixels = squares.mean(axis=(1, 3))
    return _displayed(pixels)


def _displayed(pixels: NDArray[np.generic]) -> NDArray[np.generic]:
    if pixels.ndim == 3 and pixels.shape[2] != 3:
        raise PictureError(f"a sheet shows gray and RGB pictures, not {pixels.shape[2]} planes")
    return np.asarray(pixels).clip(0, 1)


def _show(axes: Axes, pixels: NDArray[np.generic], picture: Picture | None) -> None:
    extent = None if picture is None else (0.0, picture.width, picture.height, 0.0)
    smooth = "nearest" if picture is None else "auto"
    axes.imshow(
        pixels, cmap="gray", vmin=0, vmax=1, extent=extent, interpolation=smooth, aspect="auto"
    )
    bare(axes)


def _mark(axes: Axes, crop: Region) -> None:
    from matplotlib.patches import Rectangle

    corner = (crop.left, crop.top)
    axes.add_patch(
        Rectangle(
            corner, crop.width, crop.height, fill=False, edgecolor=_CROP_COLOUR, linewidth=1.4
        )
    )


def _fitted(title: str, cell: float) -> str:
    """The title's lines, shortened in the middle to the width of a cell."""
    most = max(8, int(cell / 6.9))

    def shortened(line: str) -> str:
        if len(line) <= most:
            return line
        head = (most - 1) * 2 // 3
        return f"{line[:head]}…{line[len(line) - (most - 1 - head) :]}"

    return "\n".join(map(shortened, title.splitlines()))
