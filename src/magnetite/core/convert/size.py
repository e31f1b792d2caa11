"""Parts of a picture."""

from __future__ import annotations

from typing import Annotated

from magnetite.core.methods.catalogue import ColourPolicy, conversion
from magnetite.core.methods.parameters import Count
from magnetite.core.picture import Picture
from magnetite.core.picture.region import Region

_MOST = 2**24


@conversion(
    "crop",
    summary="A rectangular part of the picture.",
    colour=ColourPolicy.EACH,
    source="own",
)
def crop(
    picture: Picture,
    *,
    left: Annotated[int, Count(0, _MOST)] = 0,
    top: Annotated[int, Count(0, _MOST)] = 0,
    width: Annotated[int, Count(1, _MOST)],
    height: Annotated[int, Count(1, _MOST)],
) -> Picture:
    """Samples of the region, unchanged.

    Parameters
    ----------
    picture : Picture
    left, top : int
        Of the region, px from the picture's corner.
    width, height : int
        Of the region, px.

    Returns
    -------
    Picture

    Raises
    ------
    PictureError
        If the region leaves the picture.
    """
    return Region(left, top, width, height).crop(picture)


@conversion(
    "middle",
    summary="The middle of the picture, at most of a given size.",
    colour=ColourPolicy.EACH,
    source="own",
)
def middle(
    picture: Picture,
    *,
    width: Annotated[int, Count(1, _MOST)],
    height: Annotated[int, Count(1, _MOST)],
) -> Picture:
    """Samples of the middle, unchanged; a smaller picture stays as it is.

    Parameters
    ----------
    picture : Picture
    width, height : int
        At most, px.

    Returns
    -------
    Picture
    """
    width, height = min(width, picture.width), min(height, picture.height)
    left, top = (picture.width - width) // 2, (picture.height - height) // 2
    return Region(left, top, width, height).crop(picture)
