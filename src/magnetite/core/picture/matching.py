"""Whether two pictures can be compared, and how to bring them to one scale."""

from __future__ import annotations

from dataclasses import replace

from magnetite.core.errors import PictureError
from magnetite.core.picture.picture import Picture, as_picture

#: Pictures of any depth are scored with full scale here, so that their figures compare.
COMMON_SCALE = 255.0


def check_comparable(reference: Picture, test: Picture, *, any_depth: bool = False) -> None:
    """Raise `PictureError` unless size, colour and, if it matters, bit depth agree."""
    mismatch = f"{reference.origin} is {reference.describe()}, {test.origin} is {test.describe()}"
    if (reference.height, reference.width) != (test.height, test.width):
        raise PictureError(f"the sizes differ: {mismatch}; crop or resize one to the other's size")
    if (reference.colour, reference.channels) != (test.colour, test.channels):
        raise PictureError(f"the colours differ: {mismatch}; score the luma of both (gray)")
    if not any_depth:
        check_depths(reference, test)


def check_depths(reference: Picture, test: Picture) -> None:
    """Raise `PictureError` unless both pictures have one bit depth."""
    if reference.bits != test.bits:
        mismatch = (
            f"{reference.origin} is {reference.describe()}, {test.origin} is {test.describe()}"
        )
        raise PictureError(
            f"the bit depths differ: {mismatch}; bring both to one scale (mixed depths)"
        )


def at_depth_of(reference: Picture, test: Picture) -> Picture:
    """The test picture at the reference's depth, rounded where that is coarser."""
    if test.bits == reference.bits:
        return test
    floats = replace(as_picture(test.pixels()), colour=test.colour, origin=test.origin)
    if reference.bits is None:
        return floats
    return replace(reference, origin=test.origin).with_pixels(test.pixels())[0]
