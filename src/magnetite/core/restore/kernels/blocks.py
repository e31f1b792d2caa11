"""Hot loops of transforms of blocks at all positions, there and back.

All positions of a row are worked on side by side, frequency by frequency; only then are the
numbers of one block put together. Positions are unsigned, so that many can be worked on at a time.
"""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float32
from magnetite.core.compute.jit import compiled
from magnetite.core.restore._block_size import BLOCK

_compiled = compiled(fastmath=True)

_POSITIONS = 64
#: Positions whose numbers are put together at a time.
_TILE = 64


@_compiled
def transform(plane: Float32, first: int, matrix: Float32, out: Float32) -> None:
    """Coefficients of the blocks at all positions of some rows.

    Parameters
    ----------
    plane : float32 array, shape (h, w)
    first : int
        Row of the first positions.
    matrix : float32 array, shape (8, 8)
        One row for each basis function.
    out : float32 array, shape (rows, w - 7, 64)
        At position 8 k + l the coefficient of frequency k along columns and l along rows.
    """
    width, count = np.uint64(plane.shape[1]), np.uint64(out.shape[1])
    column = np.empty(plane.shape[1], np.float32)
    lines = np.empty(_POSITIONS * out.shape[1], np.float32)
    flat, numbers = plane.reshape(-1), out.reshape(-1)
    for y in range(out.shape[0]):
        start = np.uint64(first + y) * width
        for k in range(BLOCK):
            _mix(flat, start, width, matrix[k], column, np.uint64(0), width)
            for l in range(BLOCK):  # noqa: E741 as in the formula
                _mix(column, np.uint64(0), np.uint64(1), matrix[l], lines,
                     np.uint64(8 * k + l) * count, count)  # fmt: skip
        _put_together(lines, numbers, np.uint64(y) * count * np.uint64(_POSITIONS), count)


@_compiled
def back(coefficients: Float32, matrix: Float32, total: Float32) -> None:
    """Add up the blocks of all positions, each at its position.

    Parameters
    ----------
    coefficients : float32 array, shape (rows, w - 7, 64), as of `transform`
    matrix : float32 array, shape (8, 8)
        From coefficients (columns) to samples (rows).
    total : float32 array, shape (rows + 7, w)
        The sums are added.
    """
    width, count = np.uint64(total.shape[1]), np.uint64(coefficients.shape[1])
    lines = np.empty(_POSITIONS * coefficients.shape[1], np.float32)
    part = np.empty(coefficients.shape[1], np.float32)
    columns = np.empty(BLOCK * total.shape[1], np.float32)
    sums = np.empty(total.shape[1], np.float32)
    numbers = coefficients.reshape(-1)
    for y in range(coefficients.shape[0]):
        _take_apart(numbers, np.uint64(y) * count * np.uint64(_POSITIONS), lines, count)
        columns[:] = 0
        for k in range(BLOCK):
            for j in range(BLOCK):
                _mix(lines, np.uint64(8 * k) * count, count, matrix[j], part, np.uint64(0), count)
                _add(part, columns, np.uint64(k) * width + np.uint64(j), count)
        for r in range(BLOCK):
            _mix(columns, np.uint64(0), width, matrix[r], sums, np.uint64(0), width)
            _add(sums, total[y + r], np.uint64(0), width)


@_compiled
def _mix(source, at, stride, weights, out, to, count):  # type: ignore[no-untyped-def]
    """Sums of eight rows of numbers, a stride apart, each times its weight."""
    w0, w1, w2, w3, w4, w5, w6, w7 = (
        weights[0], weights[1], weights[2], weights[3],
        weights[4], weights[5], weights[6], weights[7],
    )  # fmt: skip
    a1, a2, a3 = at + stride, at + np.uint64(2) * stride, at + np.uint64(3) * stride
    a4, a5 = at + np.uint64(4) * stride, at + np.uint64(5) * stride
    a6, a7 = at + np.uint64(6) * stride, at + np.uint64(7) * stride
    for x in range(count):
        upper = (source[at + x] * w0 + source[a1 + x] * w1) + (
            source[a2 + x] * w2 + source[a3 + x] * w3
        )
        lower = (source[a4 + x] * w4 + source[a5 + x] * w5) + (
            source[a6 + x] * w6 + source[a7 + x] * w7
        )
        out[to + x] = upper + lower


@_compiled
def _add(source, out, to, count):  # type: ignore[no-untyped-def]
    for x in range(count):
        out[to + x] += source[x]


@_compiled
def _put_together(lines, numbers, at, count):  # type: ignore[no-untyped-def]
    tile, positions = np.uint64(_TILE), np.uint64(_POSITIONS)
    for first in range(np.uint64(0), count, tile):
        last = min(count, first + tile)
        for i in range(positions):
            for x in range(first, last):
                numbers[at + x * positions + i] = lines[i * count + x]


@_compiled
def _take_apart(numbers, at, lines, count):  # type: ignore[no-untyped-def]
    tile, positions = np.uint64(_TILE), np.uint64(_POSITIONS)
    for first in range(np.uint64(0), count, tile):
        last = min(count, first + tile)
        for i in range(positions):
            for x in range(first, last):
                lines[i * count + x] = numbers[at + x * positions + i]
