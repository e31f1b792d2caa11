"""Metrics of colour and of many bands."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np

from magnetite.core.arrays import Float64, Pixels, Samples
from magnetite.core.compute.bands import by_bands
from magnetite.core.compute.sharing import shared
from magnetite.core.errors import PictureError
from magnetite.core.methods.catalogue import ColourPolicy, metric
from magnetite.core.methods.parameters import Number

_SHARMA = (
    "ISO/CIE 11664-6:2022; Sharma, Wu and Dalal, Color Research and Application 30(1), 2005, "
    "doi:10.1002/col.20070"
)
#: Linear sRGB to XYZ (IEC 61966-2-1), and the white point D65 of its Y = 1 scale.
_TO_XYZ = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
_WHITE = _TO_XYZ.sum(axis=1)
#: Hues whose half angle's sine squared is within this of 1 are opposite.
_OPPOSITE = 1e-14
_COSINES = {angle: math.cos(math.radians(angle)) for angle in (6, 30, 63)}
_SINES = {angle: math.sin(math.radians(angle)) for angle in (6, 30, 63)}


@metric(
    "delta-e",
    summary="Mean colour difference CIEDE2000; samples are sRGB, white is D65.",
    colour=ColourPolicy.RGB,
    source=_SHARMA,
    unit="ΔE00",
    values="0 and up",
    better="lower",
    identical=0.0,
    mask="samples",
    clips=True,
    integers=True,
)
def delta_e(reference: Samples, test: Samples, peak: float = 1.0) -> float:
    """Mean over all pixels of CIEDE2000 with kL = kC = kH = 1.

    Samples are taken as sRGB (IEC 61966-2-1) and brought to CIELAB with the white of sRGB, D65.
    About 1 is just noticeable.
    """
    return float(delta_e_map(reference, test, peak).mean())


@metric(
    "delta-e-95",
    summary="Colour difference CIEDE2000 that 95 % of the pixels stay below; sRGB, D65.",
    colour=ColourPolicy.RGB,
    source=_SHARMA,
    unit="ΔE00",
    values="0 and up",
    better="lower",
    identical=0.0,
    mask="samples",
    clips=True,
    integers=True,
)
def delta_e_95(reference: Samples, test: Samples, peak: float = 1.0) -> float:
    """95th percentile over all pixels, linear between ranks; otherwise as `delta_e`."""
    return float(np.percentile(delta_e_map(reference, test, peak), 95))


def delta_e_map(reference: Samples, test: Samples, peak: float = 1.0) -> Float64:
    """CIEDE2000 of every pixel of two sRGB arrays, shape (h, w)."""

    return shared(_differences, reference, test, peak=peak)


def _differences(reference: Samples, test: Samples, peak: float) -> Float64:
    return by_bands(ciede2000, *(shared(_lab, one, peak=peak) for one in (reference, test)))


def _lab(pixels: Samples, peak: float) -> Float64:
    if pixels.dtype.kind == "f":
        return by_bands(lambda x: lab_of_light(light_of(x / peak)), pixels)
    light = light_of(np.arange(2 ** (8 * pixels.itemsize)) / peak)
    return by_bands(lambda x: lab_of_light(light[x]), pixels)


def light_of(encoded: Pixels) -> Float64:
    """Linear light of sRGB samples on 0..1, any shape (IEC 61966-2-1); others are clipped."""
    inside = encoded.clip(0, 1)
    return np.where(inside <= 0.04045, inside / 12.92, ((inside + 0.055) / 1.055) ** 2.4)


def lab_of_light(linear: Float64) -> Float64:
    """CIELAB (D65) of linear sRGB, shape (..., 3) (ISO/CIE 11664-4:2019)."""
    xyz = linear @ (_TO_XYZ.T / _WHITE)
    delta = 6 / 29
    f = np.where(xyz > delta**3, np.cbrt(xyz), xyz / (3 * delta**2) + 4 / 29)
    x, y, z = f[..., 0], f[..., 1], f[..., 2]
    return np.stack([116 * y - 16, 500 * (x - y), 200 * (y - z)], axis=-1)


def light_of_lab(lab: Float64) -> Float64:
    """Linear sRGB of CIELAB (D65), shape (..., 3); outside 0..1 where sRGB has no such colour."""
    y = (lab[..., 0] + 16) / 116
    f = np.stack([y + lab[..., 1] / 500, y, y - lab[..., 2] / 200], axis=-1)
    delta = 6 / 29
    xyz = np.where(f > delta, f**3, 3 * delta**2 * (f - 4 / 29)) * _WHITE
    return np.asarray(xyz @ np.linalg.inv(_TO_XYZ).T)


def ciede2000(one: Float64, two: Float64) -> Float64:
    """CIEDE2000 of CIELAB colours, last axis (L, a, b), by the steps of Sharma, Wu and Dalal.

    Hues are held as unit vectors: half the length of their difference is the sine of half the
    angle between them, and their sum points to the mean hue.
    """
    l1, a1, b1 = one[..., 0], one[..., 1], one[..., 2]
    l2, a2, b2 = two[..., 0], two[..., 1], two[..., 2]
    stretch = 1.5 - 0.5 * _far_from_gray((_length(a1, b1) + _length(a2, b2)) / 2)
    a1, a2 = a1 * stretch, a2 * stretch
    c1, c2 = _length(a1, b1), _length(a2, b2)
    (x1, y1), (x2, y2) = _direction(a1, b1, c1), _direction(a2, b2, c2)
    half_turn = np.copysign(_length(x2 - x1, y2 - y1) / 2, x1 * y2 - x2 * y1)
    x, y = x1 + x2, y1 + y2
    opposite = (half_turn**2 > 1 - _OPPOSITE) & (c1 * c2 > 0)
    if opposite.any():  # both ways round are as long: the mean of the angles counts
        h1, h2 = _hue(x1[opposite], y1[opposite]), _hue(x2[opposite], y2[opposite])
        x[opposite], y[opposite] = np.cos((h1 + h2) / 2), np.sin((h1 + h2) / 2)
        half_turn[opposite] = np.sign(h2 - h1)
    x = np.where((x == 0) & (y == 0), 1, x)
    cosine, sine = _direction(x, y, _length(x, y))
    light, chroma = (l1 + l2) / 2, (c1 + c2) / 2
    far_from_50 = (light - 50) ** 2
    dl = (l2 - l1) / (1 + 0.015 * far_from_50 / np.sqrt(20 + far_from_50))
    dc = (c2 - c1) / (1 + 0.045 * chroma)
    dh = 2 * np.sqrt(c1 * c2) * half_turn / (1 + 0.015 * chroma * _hue_weight(cosine, sine))
    hue = np.degrees(_hue(x, y))
    rotation = np.radians(60) * np.exp(-(((hue - 275) / 25) ** 2))
    rotated = -2 * np.sin(rotation) * _far_from_gray(chroma)
    return np.asarray(np.sqrt(np.maximum(dl * dl + dc * dc + dh * dh + rotated * dc * dh, 0)))


def _direction(a: Float64, b: Float64, length: Float64) -> tuple[Float64, Float64]:
    """The vector (a, b) at length 1; (0, 0) where it has none."""
    share = np.divide(1, length, out=np.zeros_like(length), where=length > 0)
    return a * share, b * share


def _length(a: Float64, b: Float64) -> Float64:
    return np.asarray(np.sqrt(a * a + b * b))


def _hue(a: Float64, b: Float64) -> Float64:
    """Angle of (a, b), 0 to 2 pi."""
    return np.asarray(np.arctan2(b, a) % (2 * np.pi))


def _hue_weight(c: Float64, s: Float64) -> Float64:
    """`1 - 0.17 cos(h - 30°) + 0.24 cos 2h + 0.32 cos(3h + 6°) - 0.2 cos(4h - 63°)`.

    Of the cosine and sine of the hue; multiples of the angle by the theorems of addition.
    """
    weight = 1 - 0.17 * (c * _COSINES[30] + s * _SINES[30])
    c2, s2 = c * c - s * s, 2 * s * c
    weight += 0.24 * c2
    weight += 0.32 * ((c2 * c - s2 * s) * _COSINES[6] - (s2 * c + c2 * s) * _SINES[6])
    weight -= 0.20 * ((c2 * c2 - s2 * s2) * _COSINES[63] + 2 * s2 * c2 * _SINES[63])
    return weight


def _far_from_gray(chroma: Float64) -> Float64:
    """`√(c⁷ / (c⁷ + 25⁷))`; powers by products, as the general one is many times slower."""
    square = chroma * chroma
    seventh = square * square * square * chroma
    return np.asarray(np.sqrt(seventh / (seventh + 25.0**7)))


@metric(
    "sam",
    summary="Spectral angle: mean angle between the channels' vectors of both pictures.",
    colour=ColourPolicy.JOINT,
    source="Kruse et al., Remote Sensing of Environment 44, 1993, doi:10.1016/0034-4257(93)90013-N",
    unit="deg",
    values="0 to 180",
    better="lower",
    identical=0.0,
    mask="samples",
)
def sam(reference: Pixels, test: Pixels) -> float:
    """Mean over all pixels of the angle between `x` and `y`, vectors of a pixel's channels.

    Of two black pixels the angle is 0, of one 90. Raises `PictureError` for gray pictures.
    """
    _check_bands("sam", reference)
    return float(by_bands(_angles, reference, test).mean())


def _angles(reference: Float64, test: Float64) -> Float64:
    """Angles between the vectors along the last axis, degrees."""
    lengths = _norm(reference), _norm(test)
    black = (lengths[0] == 0).astype(int) + (lengths[1] == 0)
    one, two = (
        vectors / np.where(length == 0, 1, length)[..., np.newaxis]
        for vectors, length in zip((reference, test), lengths, strict=True)
    )
    # Kahan's form: exact for small angles, where the arc cosine is not.
    angle = np.degrees(2 * np.arctan2(_norm(one - two), _norm(one + two)))
    return np.where(black == 2, 0.0, np.where(black == 1, 90.0, angle))


def _norm(vectors: Float64) -> Float64:
    return np.asarray(np.sqrt(np.einsum("...i,...i", vectors, vectors)))


@metric(
    "ergas",
    summary="Relative dimensionless global error: rms over all channels of rmse over mean.",
    colour=ColourPolicy.JOINT,
    source="Wald, Data Fusion: Definitions and Architectures (2002), chapter 8",
    unit="",
    values="0 to ∞",
    better="lower",
    identical=0.0,
    mask="samples",
)
def ergas(
    reference: Pixels,
    test: Pixels,
    *,
    ratio: Annotated[
        float,
        Number(1, 64),
        "sample distance of the coarse picture over that of the fine one, before sharpening",
    ] = 1.0,
) -> float:
    """`100 / ratio √(mean over channels of (rmse / mean)²)`.

    Infinity where a channel of the reference is all 0 and that of the test is not. Raises
    `PictureError` for gray pictures.
    """
    _check_bands("ergas", reference)
    errors = ((reference - test) ** 2).mean(axis=(0, 1))
    means = reference.mean(axis=(0, 1)) ** 2
    if ((means == 0) & (errors > 0)).any():
        return math.inf
    shares = np.divide(errors, means, out=np.zeros_like(errors), where=means > 0)
    return 100 / ratio * math.sqrt(float(shares.mean()))


def _check_bands(name: str, reference: Pixels) -> None:
    if reference.ndim == 2:
        raise PictureError(f"{name} compares the channels of a pixel; these pictures are gray")
