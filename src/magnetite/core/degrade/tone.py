"""Changes of tone and colour, which metrics should or should not call a loss."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.errors import PictureError
from magnetite.core.methods.amplitudes import Amplitude
from magnetite.core.methods.catalogue import ColourPolicy, degradation
from magnetite.core.methods.parameters import Number, Share

_GONZALEZ = "Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 3.2"


@degradation(
    "contrast",
    summary="Stretch or shrink the differences from a middle tone.",
    colour=ColourPolicy.EACH,
    source=_GONZALEZ,
    reach=0,
)
def contrast(
    pixels: Pixels,
    *,
    factor: Annotated[float, Number(0, 10), "factor of the contrast; 1 changes nothing"],
    about: Annotated[float, Amplitude(), "tone that stays"] = 0.5,
) -> Pixels:
    """`about + factor (x - about)`.

    Not clipped.
    """
    return (pixels - pixels.dtype.type(about)) * pixels.dtype.type(factor) + pixels.dtype.type(
        about
    )


@degradation(
    "gamma",
    summary="Raise samples to a power: darker above 1, brighter below.",
    colour=ColourPolicy.EACH,
    source=_GONZALEZ,
    reach=0,
)
def gamma(
    pixels: Pixels, *, exponent: Annotated[float, Number(0.1, 10), "exponent; 1 changes nothing"]
) -> Pixels:
    """`x^exponent`; samples below 0 keep their sign."""
    return np.sign(pixels) * np.abs(pixels) ** pixels.dtype.type(exponent)


@degradation(
    "offset",
    summary="Add one amount to every sample.",
    colour=ColourPolicy.EACH,
    source=_GONZALEZ,
    reach=0,
)
def offset(pixels: Pixels, *, by: Annotated[float, Amplitude(-1, 1), "added constant"]) -> Pixels:
    """`x + by`.

    Not clipped.
    """
    return pixels + pixels.dtype.type(by)


@degradation(
    "clip",
    summary="Limit samples to a range of tones.",
    colour=ColourPolicy.EACH,
    source=_GONZALEZ,
    reach=0,
)
def clip(
    pixels: Pixels,
    *,
    low: Annotated[float, Amplitude(), "lower bound"] = 0.0,
    high: Annotated[float, Amplitude(), "upper bound"] = 1.0,
) -> Pixels:
    """`min(max(x, low), high)`.

    Raises `PictureError` where `low` is above `high`.
    """
    if low > high:
        raise PictureError(f"clip: low ({low:.4g} of full scale) is above high ({high:.4g})")
    return pixels.clip(pixels.dtype.type(low), pixels.dtype.type(high))


@degradation(
    "vignette",
    summary="Darken towards the corners, as a lens does.",
    colour=ColourPolicy.JOINT,
    source="Goldman, IEEE Trans. Pattern Analysis 32(12), 2010, doi:10.1109/TPAMI.2010.55",
)
def vignette(
    pixels: Pixels,
    *,
    loss: Annotated[float, Share(), "share of the light lost in the corners; 0 changes nothing"],
) -> Pixels:
    """Multiply by `(1 + a r²)^-2`, r the distance from the middle, 1 at the corners.

    That is the cosine-fourth law; `a` is such that the corners lose the share `loss`.
    """
    height, width = pixels.shape[:2]
    y = np.linspace(-1, 1, height)[:, np.newaxis] if height > 1 else np.zeros((1, 1))
    x = np.linspace(-1, 1, width)[np.newaxis] if width > 1 else np.zeros((1, 1))
    radius2 = (x**2 * width**2 + y**2 * height**2) / (width**2 + height**2)
    bend = min((1 - min(loss, 1 - 1e-9)) ** -0.5 - 1, 1e5)
    light = ((1 + bend * radius2) ** -2).astype(pixels.dtype)
    shaded: Pixels = pixels * (light if pixels.ndim == 2 else light[..., np.newaxis])
    return shaded
