"""Between encoded samples and linear light: transfer characteristics, white balance, colours."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, Literal

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.compute.bands import bands_of
from magnetite.core.compute.threads import spread
from magnetite.core.degrade.mosaic import StatedPattern
from magnetite.core.errors import PictureError
from magnetite.core.methods.catalogue import ColourPolicy, degradation
from magnetite.core.methods.parameters import Choice, FileName, Matrix, Number
from magnetite.core.picture.mosaics import PATTERNS, colours_of

_SOURCE = (
    "IEC 61966-2-1:1999, section 5.2; ITU-R BT.709-6 (2015), table 3; Fritsch and Carlson, "
    "SIAM J. Numerical Analysis 17(2), 1980, doi:10.1137/0717021"
)
#: The constants 1.099 and 0.018 of BT.709 with all their digits, as BT.2020-2 (2015), table 4, has
#: them: with three the curve has a step, and no inverse there.
_A, _B = 1.09929682680944, 0.018053968510807
#: Positions of the table that a curve from a file is inverted by, before one step of Newton's.
_TABLE = 2**16 + 1
_ONE_OF = "standard", "exponent", "points"

Standard = Annotated[
    Literal["srgb", "bt709"] | None, Choice(("srgb", "bt709")), "standard of the encoding"
]
Exponent = Annotated[float | None, Number(0.1, 10), "exponent of the decoding"]
Points = Annotated[
    Any,
    FileName("curve.csv"),
    "linear and encoded values from (0, 0) on; a monotone cubic joins them",
]
Gain = Annotated[float, Number(0.01, 100), "gain"]
#: Decoding or encoding of samples that are 0 or larger.
Curve = Callable[[Float64], Float64]


@degradation(
    "to-linear",
    summary="Decode samples to linear light, by a standard, a power or a measured curve.",
    colour=ColourPolicy.EACH,
    source=_SOURCE,
    one_of=_ONE_OF,
    reach=0,
    gives_light="linear",
)
def to_linear(
    pixels: Pixels, *, standard: Standard = None, exponent: Exponent = None, points: Points = None
) -> Pixels:
    """Linear light of encoded samples; the exact inverse of `to-encoded`.

    srgb: `x / 12.92` up to 0.04045, `((x + 0.055) / 1.055)^2.4` above. bt709: `x / 4.5` below
    0.0812, `((x + 0.0993) / 1.0993)^(1 / 0.45)` above, without the step of rounded constants. A
    power: `x^exponent`. Samples below 0 keep their sign, and those above 1 follow the same formula.

    Computed in float64. Raises `PictureError` where the points do not rise.
    """
    return _mapped(pixels, _decoding(standard, exponent, points))


@degradation(
    "to-encoded",
    summary="Encode linear light, by a standard, a power or a measured curve.",
    colour=ColourPolicy.EACH,
    source=_SOURCE,
    one_of=_ONE_OF,
    reach=0,
    gives_light="encoded",
)
def to_encoded(
    pixels: Pixels, *, standard: Standard = None, exponent: Exponent = None, points: Points = None
) -> Pixels:
    """Encoded samples of linear light; the exact inverse of `to-linear`, which see.

    Computed in float64. Raises `PictureError` where the points do not rise.
    """
    return _mapped(pixels, _encoding(standard, exponent, points))


def _mapped(pixels: Pixels, curve: Curve) -> Pixels:
    out = np.empty_like(pixels)

    def work(part: slice) -> None:
        wide = pixels[part].astype(np.float64)
        out[part] = np.copysign(curve(np.abs(wide)), wide)

    list(spread(work, bands_of(pixels)))
    return out


def _decoding(standard: Standard, exponent: float | None, points: Any) -> Curve:
    if standard == "srgb":
        return lambda x: np.where(x <= 0.04045, x / 12.92, ((x + 0.055) / 1.055) ** 2.4)
    if standard == "bt709":
        return lambda x: np.where(x < 4.5 * _B, x / 4.5, ((x + _A - 1) / _A) ** (1 / 0.45))
    if exponent is not None:
        return lambda x: x**exponent
    return _tone_curve(points)[1]


def standard_decoding(standard: Standard) -> Curve:
    """Linear light of samples, 0 or larger, that were encoded by a standard."""
    return _decoding(standard, None, None)


def _encoding(standard: Standard, exponent: float | None, points: Any) -> Curve:
    if standard == "srgb":
        return lambda x: np.where(x <= 0.0031308, 12.92 * x, 1.055 * x ** (1 / 2.4) - 0.055)
    if standard == "bt709":
        return lambda x: np.where(x < _B, 4.5 * x, _A * x**0.45 - (_A - 1))
    if exponent is not None:
        return lambda x: x ** (1 / exponent)
    return _tone_curve(points)[0]


def _tone_curve(points: Any) -> tuple[Curve, Curve]:
    """Encoding and decoding through points; straight on beyond the last."""
    from scipy.interpolate import PchipInterpolator

    array = np.asarray(points, np.float64)
    if array.ndim != 2 or array.shape[1] != 2 or len(array) < 2:
        raise PictureError("a tone curve is rows of two numbers, linear and encoded, two or more")
    linear, encoded = array.T
    if array[0].any() or (np.diff(array, axis=0) <= 0).any():
        raise PictureError("a tone curve begins at 0,0, and both of its columns rise")
    spline = PchipInterpolator(linear, encoded)
    slope = spline.derivative()
    steep = (encoded[-1] - encoded[-2]) / (linear[-1] - linear[-2])
    table = np.linspace(0, linear[-1], _TABLE)
    values = spline(table)

    def encode(x: Float64) -> Float64:
        within = spline(np.minimum(x, linear[-1]))
        return np.asarray(within + steep * np.maximum(x - linear[-1], 0))

    def decode(x: Float64) -> Float64:
        wanted = np.minimum(x, encoded[-1])
        found = np.interp(wanted, values, table)
        rises = np.maximum(slope(found), 1e-9)
        nearer = np.clip(found - (spline(found) - wanted) / rises, 0, linear[-1])
        better = np.abs(spline(nearer) - wanted) <= np.abs(spline(found) - wanted)
        within = np.where(better, nearer, found)
        return np.asarray(within + np.maximum(x - encoded[-1], 0) / steep)

    return encode, decode


@degradation(
    "white-balance",
    summary="Gains for red, green and blue, of a colour picture or of a mosaic.",
    colour=ColourPolicy.JOINT,
    source="Ramanath et al., IEEE Signal Processing Magazine 22(1), 2005, "
    "doi:10.1109/MSP.2005.1407713",
    reach=0,
)
def white_balance(
    pixels: Pixels,
    *,
    red: Gain = 1.0,
    green: Gain = 1.0,
    blue: Gain = 1.0,
    pattern: StatedPattern = None,
) -> Pixels:
    """Multiply each colour by its gain.

    Of a gray picture, which is a mosaic only where its pattern is stated, or RGB; anything else is
    a `PictureError`. Not clipped.
    """
    gains: Pixels = np.array([red, green, blue], dtype=pixels.dtype)
    if pixels.ndim == 3 and pixels.shape[2] == 3:
        return np.multiply(pixels, gains)
    if pixels.ndim == 3:
        raise PictureError(
            f"white-balance takes RGB or a mosaic; this picture has {pixels.shape[2]} planes"
        )
    if pattern is None:
        raise PictureError("white-balance of a gray picture: state its pattern=, if it is a mosaic")
    out = np.empty_like(pixels)
    for (down, across), colour in colours_of(PATTERNS[pattern]):
        out[down::2, across::2] = pixels[down::2, across::2] * gains[colour]
    return out


@degradation(
    "colour-matrix",
    summary="Mix red, green and blue linearly: from a sensor's colours to those of a display.",
    colour=ColourPolicy.RGB,
    source="Ramanath et al., IEEE Signal Processing Magazine 22(1), 2005, "
    "doi:10.1109/MSP.2005.1407713",
    reach=0,
)
def colour_matrix(
    pixels: Pixels,
    *,
    rows: Annotated[Any, Matrix(3), "weights of red, green and blue, a row for each new channel"],
) -> Pixels:
    """Each new channel is a weighted sum of the three.

    Not clipped. Raises `PictureError` for any other picture than RGB.
    """
    out = np.empty_like(pixels)
    weights = np.asarray(rows, pixels.dtype).T

    def work(part: slice) -> None:
        out[part] = pixels[part] @ weights

    list(spread(work, bands_of(pixels)))
    return out
