"""The hot loop of storing."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float32, Samples
from magnetite.core.compute.jit import compiled


@compiled()
def store(pixels: Float32, full_scale: np.float32, out: Samples) -> tuple[int, int]:
    """Round, clip and cast a band, shape (n,); numbers of samples clipped at either end."""
    low = high = 0
    for i in range(pixels.size):
        number = np.rint(pixels[i] * full_scale)
        low += number < 0
        high += number > full_scale
        out[i] = np.int32(min(max(number, np.float32(0)), full_scale))
    return low, high
