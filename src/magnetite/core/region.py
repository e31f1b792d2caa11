"""Rectangular regions of a picture."""

from __future__ import annotations

from dataclasses import dataclass

from magnetite.core.errors import InputError, PictureError
from magnetite.core.picture import Picture, Pixels


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
            region = cls(int(left), int(top), int(width), int(height))
        except ValueError:
            raise InputError(
                f"{text!r} is no region: write LEFT,TOP,WIDTHxHEIGHT in px, as in 120,80,64x48"
            ) from None
        if min(region.left, region.top) < 0 or min(region.width, region.height) < 1:
            raise InputError(f"the region {text!r} is empty or begins outside the picture")
        return region

    def of(self, picture: Picture) -> Pixels:
        """The region's samples on full-scale units; `PictureError` where it leaves the picture."""
        if self.left + self.width > picture.width or self.top + self.height > picture.height:
            raise PictureError(
                f"the region {self} leaves {picture.origin}, which is {picture.describe()}"
            )
        return self.within(picture.pixels())

    def within(self, pixels: Pixels) -> Pixels:
        """The region of an array that holds it."""
        rows = slice(self.top, self.top + self.height)
        return pixels[rows, self.left : self.left + self.width]

    def __str__(self) -> str:
        return f"{self.left},{self.top},{self.width}x{self.height}"
