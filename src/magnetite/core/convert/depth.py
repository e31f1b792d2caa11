"""Bit depth."""

from __future__ import annotations

from typing import Annotated

from magnetite.core.methods.catalogue import ColourPolicy, conversion
from magnetite.core.methods.parameters import Count
from magnetite.core.picture import Picture


@conversion(
    "depth",
    summary="Another bit depth, full scale on full scale.",
    colour=ColourPolicy.EACH,
    source="own",
    reach=0,
)
def depth(picture: Picture, *, bits: Annotated[int, Count(1, 16), "new depth b'"]) -> Picture:
    """v' = round(v (2^b' - 1) / (2^b - 1)): full scale stays full scale.

    Float samples are taken on 0..1 and clipped to it. No samples are lost from b to more bits and
    back. A picture of the depth stays as it is.
    """
    if bits == picture.bits:
        return picture
    return picture.at_depth(bits)
