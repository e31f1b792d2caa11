"""Whether two pictures can be compared, and how to bring them to one scale."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from typing import Protocol

from magnetite.core.errors import InputError, PictureError
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.picture import Picture, as_picture

#: Pictures of any depth are scored with full scale here, so that their figures compare.
COMMON_SCALE = 255.0


class Framed(Protocol):
    """A picture, in memory or in a file."""

    @property
    def frame(self) -> Frame: ...

    @property
    def origin(self) -> str: ...


def check_distinct(pictures: Iterable[Picture], noun: str) -> Iterator[Picture]:
    """The pictures; raises `InputError` at one that holds the samples of an earlier one."""
    first: dict[bytes, int] = {}
    for number, one in enumerate(pictures, 1):
        known = first.setdefault(one.digest(), number)
        if known != number:
            raise InputError(f"{noun} {known} and {number} hold the same samples: give one")
        yield one


def check_comparable(
    reference: Framed,
    test: Framed,
    *,
    any_depth: bool = False,
    any_colour: bool = False,
    scored: bool = False,
) -> None:
    """Raise `PictureError` unless size and, if they matter, colour and bit depth agree.

    The message names the options of scoring where pictures are `scored`.
    """
    one, two, mismatch = reference.frame, test.frame, _both(reference, test)
    if (one.height, one.width) != (two.height, two.width):
        raise PictureError(f"the sizes differ: {mismatch}; crop or resize one to the other's size")
    if not any_colour and (one.colour, one.channels) != (two.colour, two.channels):
        raise PictureError(
            f"the colours differ: {mismatch}; convert one to gray" + ", or score with gray" * scored
        )
    if not any_depth and one.bits != two.bits:
        raise PictureError(
            f"the bit depths differ: {mismatch}; convert one, as in depth bits=8"
            + ", or score with mixed depths" * scored
        )


def _both(reference: Framed, test: Framed) -> str:
    one, two = reference.frame.describe(), test.frame.describe()
    return f"{reference.origin} is {one}, {test.origin} is {two}"


def at_depth_of(reference: Picture, test: Picture) -> Picture:
    """The test picture at the reference's depth, rounded where that is coarser."""
    if test.bits == reference.bits:
        return test
    if reference.bits is None:
        return replace(as_picture(test.pixels()), colour=test.colour, origin=test.origin)
    return test.at_depth(reference.bits)
