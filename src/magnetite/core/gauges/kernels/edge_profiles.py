"""The hot loop of edge widths: every rise along the rows of a picture."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.compute.jit import compiled

#: How many px a rise may stand still.
_REST = 2
#: Side of the tiles that edges are counted in, px.
TILE = 32

_compiled = compiled()


@_compiled
def rises(x: Float64, least: float, fall: float, excess: float, ties: bool, sums: Float64) -> None:
    """Add the widths of edges across rows, and their number, to the sums of their tiles.

    `excess` is how far noise takes turning points beyond the plateaus that they lie on. `sums`
    has shape (2, rows, columns) of tiles of 32x32.
    """
    height, width = x.shape
    for i in range(1, height - 1):
        row = x[i]
        for j in range(1, width - 2):
            step = row[j + 1] - row[j]
            if step == 0 or abs(row[j] - row[j - 1]) > abs(step):
                continue
            if abs(row[j + 2] - row[j + 1]) >= abs(step):
                continue
            across = (x[i - 1, j + 1] - x[i - 1, j] + 2 * step + x[i + 1, j + 1] - x[i + 1, j]) / 4
            down = (x[i + 1, j] + x[i + 1, j + 1] - x[i - 1, j] - x[i - 1, j + 1]) / 4
            if (
                across * step <= 0
                or abs(down) > abs(across)
                or (abs(down) == abs(across) and not ties)
            ):
                continue
            sign = 1.0 if step > 0 else -1.0
            top = _turn(row, j + 1, 1, sign, fall)
            bottom = _turn(row, j, -1, -sign, fall)
            rise = sign * (row[top] - row[bottom]) - 2 * excess
            if rise < least or _steepest(row, bottom, top) > abs(step):
                continue
            ground = row[bottom] + sign * excess
            low = _crossing(row, j, -1, ground + sign * 0.1 * rise, -sign)
            high = _crossing(row, j + 1, 1, ground + sign * 0.9 * rise, sign)
            sums[0, i // TILE, j // TILE] += (high - low) * abs(across) / np.hypot(across, down)
            sums[1, i // TILE, j // TILE] += 1


@_compiled
def _turn(row: Float64, start: int, way: int, sign: float, fall: float) -> int:
    """Where the row, going that way, has come to its furthest before it turns back."""
    best, at = start, start + way
    while 0 <= at < row.size and at - best <= _REST and best - at <= _REST:
        gain = sign * (row[at] - row[best])
        if gain > 0:
            best = at
        elif gain < -fall or fall == 0:
            break
        at += way
    return best


@_compiled
def _steepest(row: Float64, first: int, last: int) -> float:
    steepest = 0.0
    for j in range(first, last):
        steepest = max(steepest, abs(row[j + 1] - row[j]))
    return steepest


@_compiled
def _crossing(row: Float64, start: int, way: int, level: float, sign: float) -> float:
    """Where the row first reaches a level on its way, between samples.

    It may lie behind the start, before the sample that the start was reached from. Between the
    samples runs the cubic of Catmull and Rom, which four of them give.
    """
    at = start
    while sign * (row[at] - level) < 0:
        at += way
    last = row.size - 1
    p0 = row[min(last, max(0, at - 2 * way))]
    p1, p2 = row[at - way], row[at]
    p3 = row[min(last, max(0, at + way))]
    low, high = 0.0, 1.0
    for _ in range(20):
        t = (low + high) / 2
        value = p1 + 0.5 * t * (
            (p2 - p0) + t * (2 * p0 - 5 * p1 + 4 * p2 - p3 + t * (3 * (p1 - p2) + p3 - p0))
        )
        if sign * (value - level) < 0:
            low = t
        else:
            high = t
    return at - way + way * (low + high) / 2
