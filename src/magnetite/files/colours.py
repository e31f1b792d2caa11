"""Colours that files declare: said where they are not sRGB, for samples are used as they are."""

from __future__ import annotations

import io
import struct
from typing import Any

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.errors import FileError
from magnetite.core.picture.frame import Light

#: Code points of ITU-T H.273 for sRGB: primaries, and transfer functions that are its own.
_SRGB_PRIMARIES, _SRGB_TRANSFER = 1, 13
#: Gamma of sRGB as a gAMA chunk gives it, in 100,000ths, and how near counts.
_SRGB_GAMMA, _NEAR = 45_455, 600
#: Transfer function of ITU-T H.273 that is linear, and the content of a gAMA chunk for it.
_LINEAR_TRANSFER, LINEAR_GAMMA = 8, struct.pack(">I", 100_000)
#: Tags of TIFF: transfer function, and ICC profile.
_TRANSFER, _PROFILE = 301, 34675
#: Grays whose lightness tells a linear profile from others, and how near counts, L*.
_GRAYS, _NEAR_LIGHTNESS = (48, 96, 160, 224), 0.8
#: Coefficients of luma where a TIFF gives none (ITU-R BT.601), and no footroom or headroom.
_BT601 = (0.299, 0.587, 0.114)


def colour_notes(declared: str) -> tuple[str, ...]:
    """A remark on colours that are declared; none where that is nothing."""
    if not declared:
        return ()
    return (f"declares {declared}: samples are used as they are, and colour metrics take sRGB",)


def of_profile(profile: bytes | None) -> str:
    """An ICC profile by its description; empty where there is none, or it is that of sRGB."""
    if not profile:
        return ""
    from PIL import ImageCms

    try:
        opened = ImageCms.ImageCmsProfile(io.BytesIO(profile))
        name = ImageCms.getProfileDescription(opened).strip()
    except (OSError, ImageCms.PyCMSError, ValueError):
        return "an ICC profile that cannot be read"
    return "" if "srgb" in name.lower() else f"the ICC profile {name!r}"


def of_png(chunks: dict[bytes, bytes]) -> str:
    """Colours by the chunk that counts most: cICP, iCCP, sRGB, gAMA (PNG, 3rd ed., 11.3.2)."""
    code_points = chunks.get(b"cICP", b"")
    if len(code_points) == 4:
        primaries, transfer = code_points[:2]
        if (primaries, transfer) == (_SRGB_PRIMARIES, _SRGB_TRANSFER):
            return ""
        return f"colours by cICP (primaries {primaries}, transfer {transfer} of ITU-T H.273)"
    if b"iCCP" in chunks:
        return of_profile(_inflated(chunks[b"iCCP"])) or ""
    if b"sRGB" in chunks or len(chunks.get(b"gAMA", b"")) != 4:
        return ""
    (gamma,) = struct.unpack(">I", chunks[b"gAMA"])
    if chunks[b"gAMA"] == LINEAR_GAMMA:
        return "linear light (a gamma of 1)"
    return "" if abs(gamma - _SRGB_GAMMA) <= _NEAR else f"a gamma of {gamma / 100_000:g}"


def light_of_profile(profile: bytes | None) -> Light:
    """Relation of samples to light by an ICC profile of RGB or gray: the L* that it gives grays."""
    if not profile:
        return "unknown"
    from PIL import Image, ImageCms

    try:
        opened = ImageCms.ImageCmsProfile(io.BytesIO(profile))
        mode = {"RGB": "RGB", "GRAY": "L"}.get(str(opened.profile.xcolor_space).strip())
        if mode is None:
            return "unknown"
        lab = ImageCms.createProfile("LAB")
        grays = Image.fromarray(np.array([_GRAYS], np.uint8)).convert(mode)
        to_lab = ImageCms.buildTransform(
            opened, lab, mode, "LAB", ImageCms.Intent.RELATIVE_COLORIMETRIC
        )
        seen = np.asarray(ImageCms.applyTransform(grays, to_lab))[0, :, 0] * (100 / 255)
    except (OSError, ImageCms.PyCMSError, ValueError):
        return "unknown"
    linear = 116 * np.cbrt(np.array(_GRAYS) / 255) - 16
    return "linear" if np.abs(seen - linear).max() < _NEAR_LIGHTNESS else "encoded"


def light_of_tiff(page: Any) -> Light:
    """Relation of a TIFF page's samples to light: TransferFunction, or its ICC profile.

    TIFF 6.0, section 20: one table for all channels, or one for each.
    """
    profile, tables = page.tags.get(_PROFILE), page.tags.get(_TRANSFER)
    if profile is not None:
        return light_of_profile(profile.value)
    bits = page.bitspersample
    if tables is None or bits not in (8, 16) or np.size(tables.value) % 2**bits:
        return "unknown"
    rows = np.reshape(tables.value, (-1, 2**bits)).astype(float)
    off = np.abs(rows - 65535 * np.linspace(0, 1, 2**bits)).max()
    return "linear" if off <= 65535 / 2**bits else "encoded"


def linear_transfer(bits: int | None) -> list[tuple[int, str, int, tuple[int, ...], bool]]:
    """The TIFF tag that says that samples are linear; none for depths that it does not serve."""
    if bits not in (8, 16):
        return []
    table = np.rint(65535 * np.linspace(0, 1, 2**bits)).astype(int)
    return [(_TRANSFER, "H", table.size, tuple(map(int, table)), True)]


def light_of_png(chunks: dict[bytes, bytes]) -> Light:
    """Relation of a PNG's samples to light, by the chunk that counts most."""
    code_points = chunks.get(b"cICP", b"")
    if len(code_points) == 4:
        return "linear" if code_points[1] == _LINEAR_TRANSFER else "encoded"
    if b"iCCP" in chunks:
        return light_of_profile(_inflated(chunks[b"iCCP"]))
    if b"sRGB" in chunks:
        return "encoded"
    if len(gamma := chunks.get(b"gAMA", b"")) != 4:
        return "unknown"
    return "linear" if gamma == LINEAR_GAMMA else "encoded"


def _inflated(chunk: bytes) -> bytes:
    """The profile of an iCCP chunk, or invalid bytes where it is damaged."""
    import zlib

    _, _, rest = chunk.partition(b"\0")
    try:
        return zlib.decompressobj().decompress(rest[1:], 2**24)
    except zlib.error:
        return b"damaged"


def from_ycbcr(samples: Samples, bits: int, page: Any) -> Samples:
    """Uncompressed YCbCr of a TIFF page as RGB, shape (h, w, 3) (TIFF 6.0, section 21).

    Raises
    ------
    FileError
        If the samples are no whole numbers of 8 or 16 bits.
    """
    if samples.dtype.kind != "u" or bits not in (8, 16):
        raise FileError("a TIFF in YCbCr is read with 8 or 16 bits; convert it to RGB")
    top, middle = 2**bits - 1, 2 ** (bits - 1)
    ends = _values(page, 532, (0, top, middle, top, middle, top))
    black, white = np.array(ends[::2], float), np.array(ends[1::2], float)
    ranges = np.array([top, middle - 1, middle - 1], float)
    y, blue, red = np.moveaxis((samples - black) * ranges / (white - black), -1, 0)
    weights = _values(page, 529, _BT601)
    r = y + (2 - 2 * weights[0]) * red
    b = y + (2 - 2 * weights[2]) * blue
    g = (y - weights[2] * b - weights[0] * r) / weights[1]
    rgb = np.stack([r, g, b], axis=-1)
    return np.asarray(np.rint(rgb).clip(0, top).astype(samples.dtype))


def check_subsampling(page: Any) -> None:
    """Raise `FileError` where the chroma of an uncompressed TIFF page is subsampled."""
    across, down = _values(page, 530, (2, 2))
    if (across, down) != (1, 1):
        raise FileError(
            f"a TIFF in YCbCr with chroma subsampled by {across:g}x{down:g} is not read "
            "uncompressed; convert it to RGB"
        )


def _values(page: Any, number: int, default: tuple[float, ...]) -> list[float]:
    """A tag's numbers, fractions given as pairs."""
    tag = page.tags.get(number)
    if tag is None:
        return list(default)
    flat = np.ravel(tag.value).astype(float)
    if flat.size == 2 * len(default):
        flat = flat[::2] / np.where(flat[1::2] == 0, 1, flat[1::2])
    if flat.size != len(default) or not np.isfinite(flat).all():
        raise FileError(f"the TIFF is damaged: its tag {number} holds {flat.size} numbers")
    return [float(value) for value in flat]
