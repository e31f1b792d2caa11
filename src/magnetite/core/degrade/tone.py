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
    factor: Annotated[float, Number(0, 10)],
    about: Annotated[float, Amplitude()] = 0.5,
) -> Pixels:
    """`about + factor (x - about)`.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
    factor : float
        0 to 10; 1 changes nothing.
    about : float
        Tone that stays, share of full scale.

    Returns
    -------
    float array of the same shape and dtype; not clipped.
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
    pixels: Pixels,
    *,
    exponent: Annotated[float, Number(0.1, 10)],
) -> Pixels:
    """`x^exponent`; samples below 0 keep their sign.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
    exponent : float
        0.1 to 10; 1 changes nothing.

    Returns
    -------
    float array of the same shape and dtype.
    """
    return np.sign(pixels) * np.abs(pixels) ** pixels.dtype.type(exponent)


@degradation(
    "offset",
    summary="Add one amount to every sample.",
    colour=ColourPolicy.EACH,
    source=_GONZALEZ,
    reach=0,
)
def offset(
    pixels: Pixels,
    *,
    by: Annotated[float, Amplitude(-1, 1)],
) -> Pixels:
    """`x + by`.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
    by : float
        Share of full scale, -1 to 1.

    Returns
    -------
    float array of the same shape and dtype; not clipped.
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
    low: Annotated[float, Amplitude()] = 0.0,
    high: Annotated[float, Amplitude()] = 1.0,
) -> Pixels:
    """`min(max(x, low), high)`.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
    low, high : float
        Share of full scale, `low` at most `high`.

    Returns
    -------
    float array of the same shape and dtype.

    Raises
    ------
    PictureError
        If `low` is above `high`.
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
    loss: Annotated[float, Share()],
) -> Pixels:
    """Multiply by `(1 + a r²)^-2`, r the distance from the middle, 1 at the corners.

    That is the cosine-fourth law; `a` is such that the corners lose the share `loss`.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
    loss : float
        Share of the light lost in the corners, 0 to 1; 0 changes nothing.

    Returns
    -------
    float array of the same shape and dtype.
    """
    height, width = pixels.shape[:2]
    y = np.linspace(-1, 1, height)[:, np.newaxis] if height > 1 else np.zeros((1, 1))
    x = np.linspace(-1, 1, width)[np.newaxis] if width > 1 else np.zeros((1, 1))
    radius2 = (x**2 * width**2 + y**2 * height**2) / (width**2 + height**2)
    bend = min((1 - min(loss, 1 - 1e-9)) ** -0.5 - 1, 1e5)
    light = ((1 + bend * radius2) ** -2).astype(pixels.dtype)
    shaded: Pixels = pixels * (light if pixels.ndim == 2 else light[..., np.newaxis])
    return shaded
