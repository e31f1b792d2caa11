"""The loop of error diffusion: each sample waits for the one before it."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.compute.jit import compiled


@compiled()
def diffuse(x: Float64, first: float, step: float, count: int) -> None:
    """Replace a plane by levels `first + step k`, errors handed on to later neighbours."""
    height, width = x.shape
    for row in range(height):
        ahead = 1 if row % 2 == 0 else -1
        start = 0 if ahead == 1 else width - 1
        for i in range(width):
            column = start + ahead * i
            k = min(max(np.rint((x[row, column] - first) / step), 0.0), count - 1.0)
            level = first + k * step
            error = x[row, column] - level
            x[row, column] = level
            has_next, has_last = i + 1 < width, i > 0
            if has_next:
                x[row, column + ahead] += error * 7 / 16
            if row + 1 < height:
                if has_last:
                    x[row + 1, column - ahead] += error * 3 / 16
                x[row + 1, column] += error * 5 / 16
                if has_next:
                    x[row + 1, column + ahead] += error / 16
