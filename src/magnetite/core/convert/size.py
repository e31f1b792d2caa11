"""Parts of a picture."""

from __future__ import annotations

from typing import Annotated

from magnetite.core.methods.catalogue import ColourPolicy, conversion
from magnetite.core.methods.parameters import Count
from magnetite.core.picture import Picture
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.region import Region

_MOST = 2**24


def _region(frame: Frame, width: int, height: int, left: int = 0, top: int = 0) -> Region:
    return Region(left, top, width, height)


def _middle_region(frame: Frame, width: int, height: int) -> Region:
    width, height = min(width, frame.width), min(height, frame.height)
    return Region((frame.width - width) // 2, (frame.height - height) // 2, width, height)


@conversion(
    "crop",
    summary="A rectangular part of the picture.",
    colour=ColourPolicy.EACH,
    source="own",
    region=_region,
)
def crop(
    picture: Picture,
    *,
    left: Annotated[int, Count(0, _MOST), "left border, px"] = 0,
    top: Annotated[int, Count(0, _MOST), "upper border, px"] = 0,
    width: Annotated[int, Count(1, _MOST), "width, px"],
    height: Annotated[int, Count(1, _MOST), "height, px"],
) -> Picture:
    """Samples of the region, unchanged.

    Raises `PictureError` where the region leaves the picture.
    """
    return _region(picture.frame, width, height, left, top).crop(picture)


@conversion(
    "middle",
    summary="The middle of the picture, at most of a given size.",
    colour=ColourPolicy.EACH,
    source="own",
    region=_middle_region,
)
def middle(
    picture: Picture,
    *,
    width: Annotated[int, Count(1, _MOST), "largest width, px"],
    height: Annotated[int, Count(1, _MOST), "largest height, px"],
) -> Picture:
    """Samples of the middle, unchanged; a smaller picture stays as it is."""
    return _middle_region(picture.frame, width, height).crop(picture)
