"""The hot loop of thresholding in blocks at all positions: one band of rows.

All blocks of a row of positions share their columns: each column is transformed once, and the
inverse transforms along the rows are summed before the columns are transformed back.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from magnetite.core.arrays import Float32
from magnetite.core.compute.jit import compiled

#: Side of a block, px.
BLOCK = 8
#: Columns that are worked on at a time.
TILE = 256
#: A number as these loops take it.
Single = float | np.float32
Eight = tuple[Single, Single, Single, Single, Single, Single, Single, Single]

_compiled = compiled(fastmath=True)
_inlined = compiled(fastmath=True, forceinline=True)

_C1, _C2, _C3, _, _C5, _C6, _C7 = (np.float32(math.cos(math.pi * k / 16) / 2) for k in range(1, 8))
_C0 = np.float32(math.sqrt(1 / 8))
_ZERO, _ONE, _SHARE = np.float32(0), np.float32(1), np.float32(1 / BLOCK**2)


@_inlined
def cosine(
    a0: Single, a1: Single, a2: Single, a3: Single, a4: Single, a5: Single, a6: Single, a7: Single
) -> Eight:  # fmt: skip
    """Orthonormal DCT-II of eight numbers, even and odd halves apart."""
    s0, s1, s2, s3 = a0 + a7, a1 + a6, a2 + a5, a3 + a4
    d0, d1, d2, d3 = a0 - a7, a1 - a6, a2 - a5, a3 - a4
    t0, t1, t2, t3 = s0 + s3, s1 + s2, s0 - s3, s1 - s2
    return (
        (t0 + t1) * _C0,
        d0 * _C1 + d1 * _C3 + d2 * _C5 + d3 * _C7,
        t2 * _C2 + t3 * _C6,
        d0 * _C3 - d1 * _C7 - d2 * _C1 - d3 * _C5,
        (t0 - t1) * _C0,
        d0 * _C5 - d1 * _C1 + d2 * _C7 + d3 * _C3,
        t2 * _C6 - t3 * _C2,
        d0 * _C7 - d1 * _C5 + d2 * _C3 - d3 * _C1,
    )


@_inlined
def cosine_back(
    b0: Single, b1: Single, b2: Single, b3: Single, b4: Single, b5: Single, b6: Single, b7: Single
) -> Eight:  # fmt: skip
    """The inverse: `cosine` transposed."""
    u0, u1 = (b0 + b4) * _C0, (b0 - b4) * _C0
    u2, u3 = b2 * _C2 + b6 * _C6, b2 * _C6 - b6 * _C2
    s0, s1, s2, s3 = u0 + u2, u1 + u3, u1 - u3, u0 - u2
    d0 = b1 * _C1 + b3 * _C3 + b5 * _C5 + b7 * _C7
    d1 = b1 * _C3 - b3 * _C7 - b5 * _C1 - b7 * _C5
    d2 = b1 * _C5 - b3 * _C1 + b5 * _C7 + b7 * _C3
    d3 = b1 * _C7 - b3 * _C5 + b5 * _C3 - b7 * _C1
    return (s0 + d0, s1 + d1, s2 + d2, s3 + d3, s3 - d3, s2 - d2, s1 - d1, s0 - d0)


@_compiled
def threshold_band(plane: Float32, first: int, threshold: Single, out: Float32) -> None:
    """Mean of all thresholded blocks that cover each sample of a band of rows.

    Parameters
    ----------
    plane : float32 array, shape (h + 14, w + 14)
        The plane with a margin of 7 on all sides.
    first : int
        First row of the band, counted without the margin.
    threshold : float
        Coefficients of a smaller magnitude become 0; the mean of a block stays.
    out : float32 array, shape (rows, w)
    """
    width, margin = plane.shape[1], BLOCK - 1
    columns = np.empty((BLOCK, width), np.float32)
    # Inverse along rows: seven zeros on both sides stand for positions outside.
    lines = np.zeros((BLOCK, width + margin), np.float32)
    summed = np.empty((BLOCK, width), np.float32)
    total = np.zeros((out.shape[0] + 2 * margin, width), np.float32)
    for y in range(out.shape[0] + margin):
        _down(plane, first + y, 0, columns)
        for k in range(BLOCK):
            _along(columns[k], threshold, _ZERO if k == 0 else threshold, lines)
            _add_up(lines, summed[k])
        _up(summed, total, y)
    for y in range(out.shape[0]):
        row = total[y + margin, margin:]
        for x in range(out.shape[1]):
            out[y, x] = row[x] * _SHARE


@_compiled
def weighted_band(
    plane: Float32, first: int, threshold: Single, out: Float32,
    columns: Float32, kept: Float32, weight: Float32, lines: Float32, summed: Float32,
    total: Float32, weights: Float32,
) -> None:  # fmt: skip
    """The same as `threshold_band`, each block weighted by 1 / (coefficients that are left).

    A block's weight is known when all of its coefficients are: they are kept until then, for so
    many columns at a time as the cache holds. From `columns` on the arrays are `room_for` a band.
    """
    margin = BLOCK - 1
    for left in range(0, out.shape[1], TILE):
        for y in range(total.shape[0]):
            for x in range(total.shape[1]):
                total[y, x] = _ZERO
        for y in range(out.shape[0] + margin):
            _down(plane, first + y, left, columns)
            for x in range(columns.shape[1]):
                weight[x + margin] = _ZERO
            for k in range(BLOCK):
                _left(columns[k], _ZERO if k == 0 else threshold, threshold, kept[k])
                _count(kept[k], 1 if k == 0 else 0, weight)
            for x in range(columns.shape[1] - margin):
                weight[x + margin] = _ONE / (weight[x + margin] + _ONE)
            for k in range(BLOCK):
                _weighted(kept[k], weight, lines)
                _add_up(lines, summed[k])
            _up(summed, total, y)
            _spread(weight, weights[y])
        for y in range(out.shape[0]):
            _divide(total[y + margin], weights, y, out[y], left)


def room_for(rows: int, width: int) -> list[Float32]:
    """The arrays that `weighted_band` works in, for a band of some rows and columns."""
    margin = BLOCK - 1
    tile = min(TILE, width) + 2 * margin
    shapes: list[tuple[int, ...]] = [
        (BLOCK, tile), (BLOCK, BLOCK, tile), (tile + margin,), (BLOCK, tile + margin),
        (BLOCK, tile), (rows + 2 * margin, tile), (rows + 2 * margin, tile),
    ]  # fmt: skip
    return [np.zeros(shape, np.float32) for shape in shapes]


@_compiled
def _down(plane: Float32, y: int, left: int, columns: Float32) -> None:
    """Columns from `left` on, as many as there are of them and `columns` takes."""
    for i in range(min(columns.shape[1], plane.shape[1] - left)):
        x = np.uint64(left) + np.uint64(i)
        c = cosine(
            plane[y, x], plane[y + 1, x], plane[y + 2, x], plane[y + 3, x],
            plane[y + 4, x], plane[y + 5, x], plane[y + 6, x], plane[y + 7, x],
        )  # fmt: skip
        columns[0, i], columns[1, i], columns[2, i], columns[3, i] = c[0], c[1], c[2], c[3]
        columns[4, i], columns[5, i], columns[6, i], columns[7, i] = c[4], c[5], c[6], c[7]


@_inlined
def _kept(value: Any, threshold: Any) -> Any:
    return value if abs(value) > threshold else _ZERO


@_compiled
def _along(v: Float32, threshold: Single, lowest: Single, lines: Float32) -> None:
    for x in range(v.size - BLOCK + 1):
        c = cosine(v[x], v[x + 1], v[x + 2], v[x + 3], v[x + 4], v[x + 5], v[x + 6], v[x + 7])
        o = cosine_back(
            _kept(c[0], lowest), _kept(c[1], threshold), _kept(c[2], threshold),
            _kept(c[3], threshold), _kept(c[4], threshold), _kept(c[5], threshold),
            _kept(c[6], threshold), _kept(c[7], threshold),
        )  # fmt: skip
        lines[0, x + 7], lines[1, x + 7], lines[2, x + 7], lines[3, x + 7] = o[0], o[1], o[2], o[3]
        lines[4, x + 7], lines[5, x + 7], lines[6, x + 7], lines[7, x + 7] = o[4], o[5], o[6], o[7]


@_compiled
def _left(v: Float32, lowest: Single, threshold: Single, kept: Float32) -> None:
    """Thresholded coefficients of a line of blocks."""
    for x in range(v.size - BLOCK + 1):
        c = cosine(v[x], v[x + 1], v[x + 2], v[x + 3], v[x + 4], v[x + 5], v[x + 6], v[x + 7])
        kept[0, x], kept[1, x] = _kept(c[0], lowest), _kept(c[1], threshold)
        kept[2, x], kept[3, x] = _kept(c[2], threshold), _kept(c[3], threshold)
        kept[4, x], kept[5, x] = _kept(c[4], threshold), _kept(c[5], threshold)
        kept[6, x], kept[7, x] = _kept(c[6], threshold), _kept(c[7], threshold)


@_compiled
def _count(kept: Float32, first: int, weight: Float32) -> None:
    """Add up how many coefficients of each block are left, from the position `first` on."""
    for k in range(first, BLOCK):
        for x in range(kept.shape[1] - BLOCK + 1):
            weight[x + 7] += _ONE if kept[k, x] != _ZERO else _ZERO


@_compiled
def _weighted(kept: Float32, weight: Float32, lines: Float32) -> None:
    """Blocks of a line back along the rows, by their weights."""
    for x in range(kept.shape[1] - BLOCK + 1):
        w = weight[x + 7]
        o = cosine_back(
            w * kept[0, x], w * kept[1, x], w * kept[2, x], w * kept[3, x],
            w * kept[4, x], w * kept[5, x], w * kept[6, x], w * kept[7, x],
        )  # fmt: skip
        lines[0, x + 7], lines[1, x + 7], lines[2, x + 7], lines[3, x + 7] = o[0], o[1], o[2], o[3]
        lines[4, x + 7], lines[5, x + 7], lines[6, x + 7], lines[7, x + 7] = o[4], o[5], o[6], o[7]


@_compiled
def _add_up(lines: Float32, out: Float32) -> None:
    """Sample j of the block at x belongs at x + j."""
    for x in range(out.size):
        out[x] = (
            ((lines[0, x + 7] + lines[1, x + 6]) + (lines[2, x + 5] + lines[3, x + 4]))
            + ((lines[4, x + 3] + lines[5, x + 2]) + (lines[6, x + 1] + lines[7, x]))
        )  # fmt: skip


@_compiled
def _up(summed: Float32, total: Float32, y: int) -> None:
    for x in range(summed.shape[1]):
        o = cosine_back(
            summed[0, x], summed[1, x], summed[2, x], summed[3, x],
            summed[4, x], summed[5, x], summed[6, x], summed[7, x],
        )  # fmt: skip
        total[y, x] += o[0]
        total[y + 1, x] += o[1]
        total[y + 2, x] += o[2]
        total[y + 3, x] += o[3]
        total[y + 4, x] += o[4]
        total[y + 5, x] += o[5]
        total[y + 6, x] += o[6]
        total[y + 7, x] += o[7]


@_compiled
def _spread(weight: Float32, out: Float32) -> None:
    """Sum of the weights of the blocks of a line that cover each column."""
    for x in range(out.size):
        out[x] = (
            ((weight[x] + weight[x + 1]) + (weight[x + 2] + weight[x + 3]))
            + ((weight[x + 4] + weight[x + 5]) + (weight[x + 6] + weight[x + 7]))
        )  # fmt: skip


@_compiled
def _divide(total: Float32, weights: Float32, y: int, out: Float32, left: int) -> None:
    """A row of samples by the weights of the eight lines of blocks that cover it."""
    for i in range(min(TILE, out.size - left)):
        x = i + BLOCK - 1
        weight = (
            ((weights[y, x] + weights[y + 1, x]) + (weights[y + 2, x] + weights[y + 3, x]))
            + ((weights[y + 4, x] + weights[y + 5, x]) + (weights[y + 6, x] + weights[y + 7, x]))
        )  # fmt: skip
        out[left + i] = total[x] / weight
