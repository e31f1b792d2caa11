"""The hot loops of total variation: dual flows along the slopes, and the plane they give.

Slopes are differences to the next sample down and across, 0 at the last; the divergence is minus
the transpose of that. Bands of rows give the same on any number of threads.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.compute.bands import on_bands
from magnetite.core.compute.jit import compiled

#: Rows of a piece of work.
_ROWS = 64

_compiled = compiled(fastmath={"contract", "nsz", "reassoc"})


def in_bands(plane: Pixels, work: Callable[[int, int], float]) -> float:
    """The sum of `work(first, last)` over bands of the plane's rows."""
    return sum(on_bands(lambda part: work(part.start, part.stop), plane, _ROWS))


@_compiled
def ascend(
    ahead: Pixels, down: Pixels, across: Pixels, step: float, weight: float, first: int, last: int
) -> float:
    """Move the flow along the slopes of a plane, and back to at most `weight`."""
    height, width = ahead.shape
    kind = ahead.dtype.type
    s, longest, one = kind(step), kind(weight), kind(1)
    for y in range(first, last):
        here, below = ahead[y], ahead[min(y + 1, height - 1)]
        p, q = down[y], across[y]
        for x in range(width - 1):
            a = p[x] + s * (below[x] - here[x])
            b = q[x] + s * (here[x + 1] - here[x])
            shrink = one / max(one, np.sqrt(a * a + b * b) / longest)
            p[x] = a * shrink
            q[x] = b * shrink
        x = width - 1
        a, b = p[x] + s * (below[x] - here[x]), q[x]
        shrink = one / max(one, np.sqrt(a * a + b * b) / longest)
        p[x] = a * shrink
        q[x] = b * shrink
    return 0.0


@_compiled
def descend(
    pixels: Pixels, down: Pixels, across: Pixels, result: Pixels, ahead: Pixels,
    step: float, momentum: float, squares: bool, first: int, last: int,
) -> float:  # fmt: skip
    """Move the result by the flow's divergence and towards the pixels, and look ahead; planes.

    Returns the sum of the squared residual.
    """
    width, kind = pixels.shape[1], pixels.dtype.type
    t, m, zero = kind(step), kind(momentum), kind(0)
    shrink = kind(1) / (kind(1) + t)
    total = 0.0
    line = np.empty(width, pixels.dtype)
    for y in range(first, last):
        _divergence(line, down, across, y)
        own, u, v = pixels[y], result[y], ahead[y]
        if squares:
            for x in range(width):
                line[x] = (u[x] + t * line[x] + t * own[x]) * shrink
        else:
            for x in range(width):
                off = u[x] + t * line[x] - own[x]
                less = max(abs(off) - t, zero)
                line[x] = own[x] + (less if off > zero else -less)
        taken = 0.0
        for x in range(width):
            v[x] = line[x] + m * (line[x] - u[x])
            u[x] = line[x]
            taken += np.float64(line[x] - own[x]) * np.float64(line[x] - own[x])
        total += taken
    return total


@_compiled
def _divergence(line: Pixels, down: Pixels, across: Pixels, y: int) -> None:
    """A row of the flow's divergence."""
    p, above, q = down[y], down[max(y - 1, 0)], across[y]
    for x in range(line.size):
        line[x] = p[x] + q[x]
    if y > 0:
        for x in range(line.size):
            line[x] -= above[x]
    for x in range(1, line.size):
        line[x] -= q[x - 1]


@_compiled
def directions(
    plane: Pixels, down: Pixels, across: Pixels, softening: float, first: int, last: int
) -> float:
    """Slopes over their length, softened where they are small; planes."""
    height, width = plane.shape
    soft = plane.dtype.type(softening)
    for y in range(first, last):
        here, below = plane[y], plane[min(y + 1, height - 1)]
        p, q = down[y], across[y]
        for x in range(width - 1):
            a, b = below[x] - here[x], here[x + 1] - here[x]
            over = np.sqrt(a * a + b * b) + soft
            p[x] = a / over
            q[x] = b / over
        a = below[width - 1] - here[width - 1]
        p[width - 1] = a / (abs(a) + soft)
        q[width - 1] = 0
    return 0.0


@_compiled
def smoothed_update(
    plane: Pixels, correction: Pixels, down: Pixels, across: Pixels,
    smoothness: float, least: float, first: int, last: int,
) -> float:  # fmt: skip
    """Multiply a plane by a correction over `1 - smoothness divergence`; at least `least`."""
    width, kind = plane.shape[1], plane.dtype.type
    s, floor, one = kind(smoothness), kind(least), kind(1)
    line = np.empty(width, plane.dtype)
    for y in range(first, last):
        _divergence(line, down, across, y)
        u, c = plane[y], correction[y]
        for x in range(width):
            u[x] = max(u[x] * c[x] / (one - s * line[x]), floor)
    return 0.0
