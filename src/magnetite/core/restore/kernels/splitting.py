"""Hot loops of split total variation on a grid that closes in itself.

Slopes are differences to the next sample down and across; the last one is followed by the first.
Bands of rows give the same on any number of threads.
"""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.compute.jit import compiled

_compiled = compiled(fastmath={"contract", "nsz"})


@_compiled
def shrink_slopes(
    plane: Samples, lag: Samples, wanted: Samples, least: float, first: int, last: int
) -> float:
    """Shrink the lengths of slopes and lag by `least`; the rest is the new lag.

    `wanted`, shape (2, h, w), is the shrunk slopes less the new lag.
    """
    height, width = plane.shape
    for y in range(first, last):
        here, below = plane[y], plane[y + 1 if y + 1 < height else 0]
        lag_down, lag_across = lag[0, y], lag[1, y]
        down, across = wanted[0, y], wanted[1, y]
        for x in range(width):
            after = here[x + 1] if x + 1 < width else here[0]
            a = below[x] - here[x] + lag_down[x]
            b = after - here[x] + lag_across[x]
            kept = max(1 - least / max(np.sqrt(a * a + b * b), 1e-12), 0.0)
            lag_down[x], lag_across[x] = a - kept * a, b - kept * b
            down[x], across[x] = kept * a - lag_down[x], kept * b - lag_across[x]
    return 0.0


@_compiled
def divergence(wanted: Samples, out: Samples, first: int, last: int) -> float:
    """The transpose of the slopes, of `wanted` of shape (2, h, w)."""
    width = out.shape[1]
    for y in range(first, last):
        above, down, across, row = wanted[0, y - 1], wanted[0, y], wanted[1, y], out[y]
        row[0] = above[0] - down[0] + across[width - 1] - across[0]
        for x in range(1, width):
            row[x] = above[x] - down[x] + across[x - 1] - across[x]
    return 0.0
