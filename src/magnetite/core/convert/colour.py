"""To gray, and to one channel."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

import numpy as np

from magnetite.core.errors import PictureError
from magnetite.core.methods.catalogue import ColourPolicy, conversion
from magnetite.core.methods.parameters import Count
from magnetite.core.picture import LUMA_WEIGHTS, Picture

#: Weights of red, green and blue in luma, by recommendation.
WEIGHTS = {"bt601": LUMA_WEIGHTS, "bt709": (0.2126, 0.7152, 0.0722)}


@conversion(
    "gray",
    summary="One gray channel from all of them.",
    colour=ColourPolicy.JOINT,
    source="ITU-R BT.601-7 (2011), section 2.5.1; ITU-R BT.709-6 (2015), table 3",
    reach=0,
)
def gray(
    picture: Picture,
    *,
    weights: Annotated[
        Literal["bt601", "bt709", "mean"],
        "luma of one of the standards, for RGB, or the mean of any number of channels",
    ] = "bt601",
) -> Picture:
    """Luma of the gamma-encoded samples, or the mean of the channels; rounded to the same depth.

    bt601: 0.299 R + 0.587 G + 0.114 B. bt709: 0.2126 R + 0.7152 G + 0.0722 B. A gray picture stays
    as it is. Raises `PictureError` for the luma of a picture that is neither gray nor RGB.
    """
    if picture.colour == "gray":
        return picture
    pixels = picture.pixels()
    if weights == "mean":
        plane = pixels.mean(axis=2, dtype=np.float64).astype(pixels.dtype)
    elif picture.colour == "rgb":
        plane = pixels @ np.asarray(WEIGHTS[weights], pixels.dtype)
    else:
        raise PictureError(
            f"gray weights={weights} takes RGB pictures, and {picture.origin} has "
            f"{picture.channels} planes: write weights=mean"
        )
    blank = Picture(picture.samples[..., 0], picture.bits, "gray", picture.origin)
    return blank.with_pixels(plane)[0]


@conversion(
    "channel",
    summary="One of the channels as a gray picture.",
    colour=ColourPolicy.JOINT,
    source="own",
    reach=0,
)
def channel(
    picture: Picture,
    *,
    number: Annotated[int, Count(1, 4096), "position of the channel; 1 is red of an RGB picture"],
) -> Picture:
    """Samples of one channel, unchanged.

    Raises `PictureError` where the picture has fewer channels.
    """
    if number > picture.channels:
        raise PictureError(
            f"channel number={number}: {picture.origin} has {picture.channels} "
            f"channel{'s' if picture.channels > 1 else ''} ({picture.describe()})"
        )
    if picture.colour == "gray":
        return picture
    samples = np.ascontiguousarray(picture.samples[..., number - 1])
    return replace(picture, samples=samples, colour="gray", alpha=None)
