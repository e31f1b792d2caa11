"""Patterns of colour filter mosaics."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Literal

from magnetite.core.arrays import Pixels
from magnetite.core.errors import PictureError

Pattern = Annotated[
    Literal["rggb", "bggr", "grbg", "gbrg"],
    "colours of the first two samples of the first two rows",
]
#: Number of the colour at each position of the 2x2 samples that repeat.
PATTERNS: dict[str, tuple[tuple[int, int], tuple[int, int]]] = {
    "rggb": ((0, 1), (1, 2)), "bggr": ((2, 1), (1, 0)),
    "grbg": ((1, 0), (2, 1)), "gbrg": ((1, 2), (0, 1)),
}  # fmt: skip


def colours_of(
    pattern: tuple[tuple[int, int], tuple[int, int]],
) -> Iterator[tuple[tuple[int, int], int]]:
    """Row and column of each of the four samples, and its colour."""
    for down in range(2):
        for across in range(2):
            yield (down, across), pattern[down][across]


def check_even(name: str, pixels: Pixels) -> None:
    """Raise `PictureError` for pixels, shape (h, w), whose sides the pattern does not fit."""
    height, width = pixels.shape[:2]
    if height % 2 or width % 2:
        raise PictureError(
            f"{name}: the pattern of 2x2 samples does not fit a picture of {width}x{height}: "
            "crop it to even sides"
        )
