"""A picture as a notebook shows it."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Samples


def as_png(samples: Samples, full_scale: float) -> bytes:
    """PNG of 8 bits of samples, (h, w) or (h, w, 3): black to full scale, the rest clipped."""
    import imagecodecs

    shown = np.rint(samples * (255 / full_scale)).clip(0, 255).astype(np.uint8)
    return bytes(imagecodecs.png_encode(np.ascontiguousarray(shown)))
