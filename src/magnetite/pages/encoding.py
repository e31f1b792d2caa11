"""Pictures as PNG files that a browser can show, with every sample exact.

Browsers decode PNG to 8 bits. So samples of more bits are split into two pictures, of their high
and of their low bytes; the page puts them together again.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from magnetite.core.analysis.maps import error_maps
from magnetite.core.arrays import Samples
from magnetite.core.picture import Picture
from magnetite.files.writing import encoded

#: Float samples are shown to this many steps between their smallest and largest.
_STEPS = 65535
#: Channels of a colour picture; of any other number of them the first plane is shown.
_PLANES = 3


@dataclass(frozen=True)
class Encoded:
    """A picture for the page: value = offset + factor (256 high + low)."""

    width: int
    height: int
    channels: int
    #: Picture in words: size, colour, depth.
    words: str
    unit: str
    #: The value that is white.
    full: float
    offset: float
    factor: float
    high: bytes
    low: bytes | None


def encode(picture: Picture) -> Encoded:
    """A picture for the page; exact for all bit depths, float samples to 1/65535 of their range."""
    samples, offset, factor = _whole(picture)
    words = picture.describe()
    if samples.ndim == 3 and picture.colour != "rgb":
        samples = samples[..., 0]
        words += "; its first plane is shown"
    deep = samples.dtype == np.uint16
    return Encoded(
        width=picture.width,
        height=picture.height,
        channels=1 if samples.ndim == 2 else _PLANES,
        words=words,
        unit=picture.amplitude_unit,
        full=picture.full_scale,
        offset=offset,
        factor=factor,
        high=_png(samples >> 8 if deep else samples),
        low=_png(samples & 255) if deep else None,
    )


def similarity(reference: Picture, test: Picture) -> bytes | None:
    """The SSIM map of a pair as a gray PNG, 0 to 1; its windows' centres, so 5 px are missing."""
    if test.samples.shape != reference.samples.shape or test.bits != reference.bits:
        return None
    maps = error_maps(reference, test, ("ssim",))
    return _png(np.rint(255 * maps[0].values.clip(0, 1))) if maps else None


def _whole(picture: Picture) -> tuple[Samples, float, float]:
    """Samples as whole numbers, with the offset and factor that decode them."""
    if picture.bits is not None:
        return picture.samples, 0.0, 1.0
    low, high = float(picture.samples.min()), float(picture.samples.max())
    low, high = min(low, 0.0), max(high, 1.0)
    factor = (high - low) / _STEPS
    return np.rint((picture.samples - low) / factor).astype(np.uint16), low, factor


def _png(samples: Samples) -> bytes:
    whole = np.ascontiguousarray(samples.astype(np.uint8))
    picture = Picture(whole, 8, "gray" if whole.ndim == 2 else "rgb")
    return encoded(picture, Path("picture.png"))[0]
