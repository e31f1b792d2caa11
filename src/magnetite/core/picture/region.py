"""Rectangular regions of a picture."""

from __future__ import annotations

from dataclasses import dataclass, replace

from magnetite.core.arrays import Pixels, Samples
from magnetite.core.errors import InputError, PictureError
from magnetite.core.picture import Picture
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.rows import Rows
from magnetite.core.quantities import read_whole


@dataclass(frozen=True)
class Region:
    """A region in px: left, top, width, height."""

    left: int
    top: int
    width: int
    height: int

    @classmethod
    def parse(cls, text: str) -> Region:
        """Read `LEFT,TOP,WIDTHxHEIGHT`; raises `InputError` for anything else."""
        try:
            left, top, size = text.split(",")
            width, height = size.split("x")
            region = cls(*map(read_whole, (left, top, width, height)))
        except ValueError:
            raise InputError(
                f"{text!r} is not a region: write LEFT,TOP,WIDTHxHEIGHT in px, as in 120,80,64x48"
            ) from None
        if min(region.left, region.top) < 0 or min(region.width, region.height) < 1:
            raise InputError(f"the region {text!r} is empty or begins outside the picture")
        return region

    @classmethod
    def of_text(cls, region: Region | str) -> Region:
        """A region as it is, or read from its text."""
        return region if isinstance(region, Region) else cls.parse(region)

    @classmethod
    def inside(cls, picture: Rows, border: int) -> Region:
        """All of a picture but a border, px; `PictureError` where nothing is left."""
        frame = picture.frame
        width, height = frame.width - 2 * border, frame.height - 2 * border
        if border < 0 or min(width, height) < 1:
            raise PictureError(
                f"a border of {border} px leaves nothing of {picture.origin}, "
                f"which is {frame.describe()}"
            )
        return cls(border, border, width, height)

    def of(self, picture: Picture) -> Pixels:
        """The region's samples on full-scale units; `PictureError` where it leaves the picture."""
        return self.crop(picture).pixels()

    def crop(self, picture: Picture) -> Picture:
        """The region as a picture; `PictureError` where it leaves the whole."""
        self.check_inside(picture.frame, picture.origin)
        return replace(picture, samples=self.within(picture.samples), alpha=None)

    def check_inside(self, frame: Frame, origin: str) -> None:
        """Raise `PictureError` where the region leaves a picture of that frame and origin."""
        if self.left + self.width > frame.width or self.top + self.height > frame.height:
            raise PictureError(f"the region {self} leaves {origin}, which is {frame.describe()}")

    def within(self, samples: Samples) -> Samples:
        """The region of an array that holds it."""
        rows = slice(self.top, self.top + self.height)
        return samples[rows, self.left : self.left + self.width]

    def __str__(self) -> str:
        return f"{self.left},{self.top},{self.width}x{self.height}"


class RegionRows:
    """A region of a picture that is read in bands.

    Parameters
    ----------
    source : Rows
    region : Region or str

    Raises
    ------
    PictureError
        If the region leaves the picture.
    """

    def __init__(self, source: Rows, region: Region | str) -> None:
        self._source, self._region = source, Region.of_text(region)
        self._region.check_inside(source.frame, source.origin)

    @property
    def frame(self) -> Frame:
        return replace(self._source.frame, height=self._region.height, width=self._region.width)

    @property
    def origin(self) -> str:
        return self._source.origin

    def part(self, rows: slice) -> Picture:
        """Some rows of the region as a picture of their own."""
        region = self._region
        first, last, _ = rows.indices(region.height)
        strip = self._source.part(slice(region.top + first, region.top + last))
        return Region(region.left, 0, region.width, last - first).crop(strip)
