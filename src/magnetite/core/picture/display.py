"""A picture as a notebook shows it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from magnetite.core.picture.picture import Picture


def as_png(picture: Picture) -> bytes:
    """PNG of 8 bits: black to full scale, the rest clipped; of planes the middle one."""
    import imagecodecs

    samples = picture.samples
    if picture.colour == "planes":
        samples = samples[..., picture.channels // 2]
    shown = np.rint(samples * (255 / picture.full_scale)).clip(0, 255).astype(np.uint8)
    return bytes(imagecodecs.png_encode(np.ascontiguousarray(shown)))
