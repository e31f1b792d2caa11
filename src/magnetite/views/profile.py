"""Sample values along a line, of several pictures in one plot."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.errors import InputError, PictureError
from magnetite.core.picture import Picture, luma
from magnetite.core.quantities import read_number
from magnetite.views.style import COLOURS, bare, fitted, headline, new_figure

if TYPE_CHECKING:
    from matplotlib.figure import Figure

#: Longest line whose samples are marked individually, px.
_MARKED = 120


@dataclass(frozen=True)
class Segment:
    """A line from one sample's middle to another's, px."""

    x1: float
    y1: float
    x2: float
    y2: float

    @classmethod
    def parse(cls, text: str) -> Segment:
        """Read `X1,Y1,X2,Y2`; raises `InputError` for anything else."""
        try:
            segment = cls(*(read_number(word.strip()) for word in text.split(",")))
        except (TypeError, ValueError):
            raise InputError(
                f"{text!r} is not a line: write X1,Y1,X2,Y2 in px, as in 40,100,140,100"
            ) from None
        if segment.length < 1:
            raise InputError(f"the line {text!r} is shorter than a px")
        return segment

    @classmethod
    def across(cls, picture: Picture) -> Segment:
        """The middle row; of a picture of one column that column.

        Raises `PictureError` for a single sample.
        """
        if picture.width == 1:
            if picture.height == 1:
                raise PictureError(f"{picture.origin} is a single sample: no line crosses it")
            return cls(0, 0, 0, picture.height - 1)
        return cls(0, picture.height // 2, picture.width - 1, picture.height // 2)

    @property
    def length(self) -> float:
        return float(np.hypot(self.x2 - self.x1, self.y2 - self.y1))

    def sampled(self, picture: Picture) -> tuple[Float64, Float64]:
        """Distances along the line, a px apart, and luma there in dn, interpolated linearly.

        Raises `PictureError` where the line leaves the picture.
        """
        from scipy.ndimage import map_coordinates

        limits = ((self.x1, self.x2, picture.width), (self.y1, self.y2, picture.height))
        if any(min(a, b) < 0 or max(a, b) > n - 1 for a, b, n in limits):
            raise PictureError(
                f"the line {self} leaves {picture.origin}, which is {picture.describe()}"
            )
        share = np.linspace(0, 1, max(2, round(self.length) + 1))
        x, y = self.x1 + share * (self.x2 - self.x1), self.y1 + share * (self.y2 - self.y1)
        plane = luma(picture.pixels()).astype(np.float64) * picture.full_scale
        return share * self.length, map_coordinates(plane, [y, x], order=1, mode="nearest")

    def __str__(self) -> str:
        return f"{self.x1:g},{self.y1:g},{self.x2:g},{self.y2:g}"


def profile_figure(
    pictures: Sequence[Picture], names: Sequence[str], segment: Segment | str
) -> Figure:
    """The line in the first picture, and luma along it in all of them.

    Raises
    ------
    InputError
        If there are more pictures than colours to distinguish them.
    PictureError
        If the line leaves a picture, or sizes or depths differ.
    """
    segment = Segment.parse(segment) if isinstance(segment, str) else segment
    if len(pictures) > len(COLOURS):
        raise InputError(f"profiles of up to {len(COLOURS)} pictures are shown in one plot")
    first = pictures[0]
    for picture in pictures[1:]:
        if picture.full_scale != first.full_scale:
            raise PictureError(
                f"{picture.origin} is {picture.describe()}, {first.origin} {first.describe()}: "
                "their values share no scale"
            )
        if (picture.width, picture.height) != (first.width, first.height):
            raise PictureError(
                f"{picture.origin} is {picture.describe()}, {first.origin} {first.describe()}: "
                "a line covers different content in each; crop or resize one to the other's size"
            )
    lines = [segment.sampled(picture) for picture in pictures]
    figure = new_figure(1280, 560)
    headline(figure, f"Luma along the line {segment}")
    image, plot = figure.subplots(1, 2, gridspec_kw={"width_ratios": [1, 2.1]})
    figure.subplots_adjust(left=0.03, right=0.98, top=0.88, bottom=0.11, wspace=0.15)
    image.imshow(first.pixels().clip(0, 1), cmap="gray", vmin=0, vmax=1)
    image.plot([segment.x1, segment.x2], [segment.y1, segment.y2], color="#FFB000", lw=1.6)
    bare(image)
    image.set_title(fitted(names[0], 380, 10), fontsize=10)
    for (distance, values), name, colour in zip(lines, names, COLOURS, strict=False):
        marker = "o" if distance.size <= _MARKED else ""
        plot.plot(
            distance,
            values,
            color=colour,
            label=fitted(name, 400),
            marker=marker,
            markersize=3,
            lw=1.4,
        )
    plot.set(xlabel=f"px from {segment.x1:g},{segment.y1:g}", ylabel=first.amplitude_unit)
    plot.set_xlim(0, segment.length)
    plot.grid(True)
    plot.legend(frameon=False, loc="best")
    return figure
