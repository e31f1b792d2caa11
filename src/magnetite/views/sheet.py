"""Contact sheets: pictures side by side at one scale, with the same crop of each below."""

from __future__ import annotations

import math
import textwrap
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from magnetite.core.arrays import Pixels, UInt8
from magnetite.core.errors import InputError, PictureError
from magnetite.core.picture import Picture
from magnetite.core.picture.region import Region
from magnetite.views.style import bare, fitted, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

WIDTH = 1280
_MARGIN, _GAP = 16, 14
#: Height of a line of a title, and of a heading, and width of a character of a title, px.
_LINE, _HEADING, _CHARACTER = 15, 34, 7.0
#: Tallest enlarged part, px; width over height from which on pictures are wide.
_TALLEST_CROP, _WIDE = 420, 2.5
_CROP_COLOUR = "#FFB000"
MAX_PICTURES = 40


def sheet(
    pictures: Sequence[Picture | None],
    titles: Sequence[str],
    crop: Region | None = None,
    columns: int | None = None,
    *,
    heading: str = "",
    below: float = 0,
) -> Figure:
    """Draw pictures side by side, wide ones below each other, all at one scale, black at 0 and
    white at full scale.

    Titles may have several lines. With a crop, the same region of each stands enlarged below its
    picture, every sample a square, its frame drawn in the picture. None leaves a position empty.
    Below the pictures, as many px as are asked for stay free.

    Raises
    ------
    InputError
        If there are no pictures or too many to see.
    PictureError
        If the crop leaves a picture, or a picture is neither gray nor RGB.
    """
    if not 1 <= len(pictures) <= MAX_PICTURES:
        raise InputError(f"a sheet shows 1 to {MAX_PICTURES} pictures, not {len(pictures)}")
    present = [picture for picture in pictures if picture is not None]
    widest = max(picture.width for picture in present)
    tallest = max(picture.height for picture in present)
    columns = columns or _columns(len(pictures), crop, widest / tallest)
    rows = math.ceil(len(pictures) / columns)
    cell = cell_width(columns)
    titles = [_wrapped(title, cell) for title in titles]
    title_height = _LINE * max(title.count("\n") + 1 for title in titles) + 14
    head = float(_HEADING if heading else 0)
    # One scale for all, in sheet px per picture px. Small pictures are enlarged.
    scale = min(cell / widest, 640 / tallest)
    enlarged = 0.0
    if crop is not None:
        tallest_crop = _TALLEST_CROP if columns > 1 else _TALLEST_CROP / 1.5
        enlarged = min(cell / crop.width, min(cell, tallest_crop) / crop.height)
    crop_height = 0.0 if crop is None else enlarged * crop.height + _GAP / 2
    row_height = title_height + tallest * scale + crop_height + _GAP
    height = head + rows * row_height + _MARGIN + below
    figure = new_figure(WIDTH, height)
    if heading:
        figure.text(
            _MARGIN / WIDTH, 1 - 24 / height, fitted(heading, WIDTH - 2 * _MARGIN, 13), fontsize=13
        )
    for i, (picture, title) in enumerate(zip(pictures, titles, strict=True)):
        if picture is None:
            continue
        left = _MARGIN + (i % columns) * (cell + _GAP)
        top = head + (i // columns) * row_height + title_height
        frame = (left, top, picture.width * scale, picture.height * scale)
        axes = _position(figure, frame, height)
        _show(axes, _visible(picture, max(1, int(1 / scale))), picture)
        axes.set_title(fitted(title, cell), fontsize=9.5, loc="left", pad=4)
        if crop is not None:
            _mark(axes, crop)
            size = crop.width * enlarged, crop.height * enlarged
            part = (left, top + tallest * scale + _GAP / 2, *size)
            _show(_position(figure, part, height), _displayed(crop.of(picture)), None)
    return figure


def _wrapped(title: str, cell: float) -> str:
    """Lines of a title, those too long for a cell broken once between words."""
    width, lines = max(8, int(cell / _CHARACTER)), []
    for line in title.split("\n"):
        first, *rest = textwrap.wrap(line, width, break_long_words=False) or [line]
        lines += [first, " ".join(rest)] if rest else [first]
    return "\n".join(lines)


def cell_width(columns: int) -> float:
    """Width available to each picture of a row with this many columns, px."""
    return (WIDTH - 2 * _MARGIN - (columns - 1) * _GAP) / columns


def busiest(picture: Picture, share: float = 0.2, *, wide: bool = False) -> Region:
    """The part of a picture with most going on: where its samples differ most from neighbours.

    Its sides are a share of the picture's shorter one, at least 16 px in larger pictures; a wide
    part has the shape of the picture.
    """
    gray = picture.luma().pixels().astype(np.float64)
    shape = gray.shape if wide else (min(gray.shape),) * 2
    tall, side = (
        min(max(16, round(share * n)), most) for n, most in zip(shape, gray.shape, strict=True)
    )
    slopes = np.zeros(gray.shape)
    slopes[:, 1:] += np.abs(np.diff(gray, axis=1))
    slopes[1:] += np.abs(np.diff(gray, axis=0))
    sums = np.zeros((gray.shape[0] + 1, gray.shape[1] + 1))
    sums[1:, 1:] = slopes.cumsum(axis=0).cumsum(axis=1)
    total = sums[tall:, side:] - sums[:-tall, side:] - sums[tall:, :-side] + sums[:-tall, :-side]
    top, left = np.unravel_index(int(total.argmax()), total.shape)
    return Region(int(left), int(top), side, tall)


def _columns(count: int, crop: Region | None, aspect: float) -> int:
    """Columns for a number of pictures; wide ones stand below each other."""
    if aspect >= _WIDE:
        return 1 if aspect >= 2 * _WIDE else min(count, 2)
    if count <= 4:
        return count
    return min(count, 4 if crop is not None else 3 if count in (5, 6, 9) else 4)


def _position(figure: Figure, frame: tuple[float, float, float, float], height: float) -> Axes:
    left, top, wide, tall = frame
    bottom = height - top - tall
    return figure.add_axes((left / WIDTH, bottom / height, wide / WIDTH, tall / height))


def _visible(picture: Picture, shrink: int) -> UInt8:
    """Samples for display, averaged over squares where the sheet has fewer px than the picture."""
    pixels = picture.pixels()
    if shrink > 1 and min(picture.height, picture.width) >= shrink:
        rows, columns = (n // shrink * shrink for n in pixels.shape[:2])
        corners = [(i, j) for i in range(shrink) for j in range(shrink)]
        total = sum(pixels[i:rows:shrink, j:columns:shrink] for i, j in corners)
        pixels = np.asarray(total / len(corners), pixels.dtype)
    return _displayed(pixels)


def _displayed(pixels: Pixels) -> UInt8:
    """Samples as a screen shows them, 8 bits RGB: so they are drawn fastest."""
    if pixels.ndim == 3 and pixels.shape[2] != 3:
        raise PictureError(f"a sheet shows gray and RGB pictures, not {pixels.shape[2]} planes")
    levels = np.rint(pixels.clip(0, 1) * 255).astype(np.uint8)
    return levels if levels.ndim == 3 else np.repeat(levels[..., np.newaxis], 3, axis=2)


def _show(axes: Axes, pixels: UInt8, picture: Picture | None) -> None:
    extent = None if picture is None else (0.0, picture.width, picture.height, 0.0)
    smooth = "nearest" if picture is None else "auto"
    axes.imshow(pixels, extent=extent, interpolation=smooth, aspect="auto")
    bare(axes)


def _mark(axes: Axes, crop: Region) -> None:
    from matplotlib.patches import Rectangle

    corner = (crop.left, crop.top)
    axes.add_patch(
        Rectangle(
            corner, crop.width, crop.height, fill=False, edgecolor=_CROP_COLOUR, linewidth=1.4
        )
    )
