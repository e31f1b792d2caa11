"""Rectangular regions of a picture."""

from __future__ import annotations

from dataclasses import dataclass, replace

from magnetite.core.arrays import Pixels, Samples
from magnetite.core.errors import InputError, PictureError
from magnetite.core.picture import Picture
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
    def inside(cls, picture: Picture, border: int) -> Region:
        """All of a picture but a border, px; `PictureError` where nothing is left."""
        width, height = picture.width - 2 * border, picture.height - 2 * border
        if border < 0 or min(width, height) < 1:
            raise PictureError(
                f"a border of {border} px leaves nothing of {picture.origin}, "
                f"which is {picture.describe()}"
            )
        return cls(border, border, width, height)

    def of(self, picture: Picture) -> Pixels:
        """The region's samples on full-scale units; `PictureError` where it leaves the picture."""
        return self.crop(picture).pixels()

    def crop(self, picture: Picture) -> Picture:
        """The region as a picture; `PictureError` where it leaves the whole."""
        if self.left + self.width > picture.width or self.top + self.height > picture.height:
            raise PictureError(
                f"the region {self} leaves {picture.origin}, which is {picture.describe()}"
            )
        return replace(picture, samples=self.within(picture.samples), alpha=None)

    def within(self, samples: Samples) -> Samples:
        """The region of an array that holds it."""
        rows = slice(self.top, self.top + self.height)
        return samples[rows, self.left : self.left + self.width]

    def __str__(self) -> str:
        return f"{self.left},{self.top},{self.width}x{self.height}"
