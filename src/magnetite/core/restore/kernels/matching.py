"""The hot loop of block matching: for rows of reference blocks, those most like each.

For each shift the squared differences are summed over columns, then over blocks, for the whole row
at once. Positions are unsigned, so that many can be worked on at a time.
"""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float32, Int64
from magnetite.core.compute.jit import compiled
from magnetite.core.restore._block_size import BLOCK, STEP

#: A number as these loops take it.
Single = float | np.float32

_compiled = compiled(fastmath=True)

#: Distances are kept in whole numbers of 1/16, above the position, in one number to be compared.
_FINE = np.float32(16)
_SHIFT = 32
#: Numbers that a vector holds.
_LANES = 8


def spread(plane: Float32) -> Float32:
    """The plane with padded rows, so that samples below one another share no cache line set."""
    stride = -(-plane.shape[1] // 1024) * 1024 + 80
    wide = np.zeros((plane.shape[0], stride), np.float32)
    wide[:, : plane.shape[1]] = plane
    return wide


@_compiled
def match_rows(
    plane: Float32, width: int, top: int, rows: int, reach: int, farthest: Single, keys: Int64
) -> None:
    """For each reference block of some rows the blocks around with the least squared difference.

    Parameters
    ----------
    plane : float32 array, shape (h, at least w)
        See `spread`.
    width : int
        w; both it and h are at least 8.
    top : int
        Upper edge of the first row's references; their left edges are 0, 3, 6, … and w - 8.
    rows : int
        1 to 3 rows of references, 3 px below one another: they share sums.
    reach : int
        Largest shift up, down, left and right, in px.
    farthest : float
        Blocks are taken whose sum of squared differences is smaller than this.
    keys : int64 array, shape (rows, references, n)
        The nearest first, itself before all: 16 times the distance in the upper half, the position
        (row times w plus column) in the lower, -1 where there is none.
    """
    height, count, size = plane.shape[0], keys.shape[1], keys.shape[2]
    limit = np.int64(farthest * _FINE)
    keys[:] = limit << _SHIFT
    for r in range(rows):
        for i in range(count):
            keys[r, i, 0] = (top + r * STEP) * width + min(i * STEP, width - BLOCK)
    # How near a block must be to be taken.
    worst = np.full((rows, count), np.float32(farthest), np.float32)
    flat, wide, ordered = plane.reshape(-1), np.uint64(plane.shape[1]), keys.reshape(-1)
    edge, space = width - BLOCK, width + 2 * _LANES
    columns, quads = np.zeros((3, space), np.float32), np.zeros(space, np.float32)
    nearer = np.empty(count + 1, np.uint64)
    # From near to far: near blocks are most often alike, and few others are nearer then.
    for i in range(2 * reach + 1):
        down = _outwards(i)
        first = max(0, -((top + down) // STEP))
        last = min(rows, (height - BLOCK - top - down) // STEP + 1)
        for j in range(2 * reach + 1):
            shift = _outwards(j)
            low, high = max(0, -shift), min(width, width - shift)
            if first >= last or (down == 0 and shift == 0) or high - low < BLOCK:
                continue
            # Whole vectors: the padding beyond is read and ignored.
            some = np.uint64(-(-(high - low) // _LANES) * _LANES)
            one = np.uint64(top) * wide + np.uint64(low)
            if last - first == 3:
                two = np.uint64(top + down) * wide + np.uint64(low + shift)
                _three_rows(flat, columns.reshape(-1), np.uint64(space), one, two, wide, some)
            for r in range(first, last):
                y = top + r * STEP
                if last - first < 3:
                    one = np.uint64(y) * wide + np.uint64(low)
                    two = np.uint64(y + down) * wide + np.uint64(low + shift)
                    _column_sums(flat, columns[r], one, two, wide, some)
                _quad_sums(columns[r], quads, some)
                base, row = (y + down) * width + shift, np.uint64(r * count * size)
                _take(quads, low, high, base, worst[r], ordered, row, np.uint64(size), nearer)
                if edge % STEP and low <= edge <= high - BLOCK:
                    _take_last(quads, low, edge, base, worst[r], ordered, row, np.uint64(size))
    _put_in_order(keys, limit)


@_compiled
def _put_in_order(keys: Int64, limit: np.int64) -> None:
    """The nearest first, the first key staying; -1 for positions that no block was found for."""
    for r in range(keys.shape[0]):
        for i in range(keys.shape[1]):
            for j in range(2, keys.shape[2]):
                key, k = keys[r, i, j], j
                while k > 1 and keys[r, i, k - 1] > key:
                    keys[r, i, k] = keys[r, i, k - 1]
                    k -= 1
                keys[r, i, k] = key
            for j in range(1, keys.shape[2]):
                if keys[r, i, j] >> _SHIFT >= limit:
                    keys[r, i, j] = -1


@_compiled
def _outwards(i):  # type: ignore[no-untyped-def]
    """0, -1, 1, -2, 2, …"""
    return (i + 1) // 2 * (1 - 2 * (i % 2))


@_compiled
def _square(flat, one, two, x):  # type: ignore[no-untyped-def]
    difference = flat[one + x] - flat[two + x]
    return difference * difference


@_compiled
def _column_sums(flat, columns, one, two, wide, count):  # type: ignore[no-untyped-def]
    """Squared differences, summed over the eight rows of a block, of each column."""
    n = np.uint64
    for x in range(count):
        upper = (_square(flat, one, two, x) + _square(flat, one + wide, two + wide, x)) + _square(
            flat, one + n(2) * wide, two + n(2) * wide, x
        )
        middle = (
            (_square(flat, one + n(3) * wide, two + n(3) * wide, x)
             + _square(flat, one + n(4) * wide, two + n(4) * wide, x))
            + _square(flat, one + n(5) * wide, two + n(5) * wide, x)
        )  # fmt: skip
        lower = _square(flat, one + n(6) * wide, two + n(6) * wide, x) + _square(
            flat, one + n(7) * wide, two + n(7) * wide, x
        )
        columns[x] = (upper + middle) + lower


@_compiled
def _three_rows(flat, columns, stride, one, two, wide, count):  # type: ignore[no-untyped-def]
    """The same for three rows of references, which share the sums of three rows of samples."""
    n = np.uint64
    second, third = stride, n(2) * stride
    for x in range(count):
        a = (_square(flat, one, two, x) + _square(flat, one + wide, two + wide, x)) + _square(
            flat, one + n(2) * wide, two + n(2) * wide, x
        )
        b = (
            (_square(flat, one + n(3) * wide, two + n(3) * wide, x)
             + _square(flat, one + n(4) * wide, two + n(4) * wide, x))
            + _square(flat, one + n(5) * wide, two + n(5) * wide, x)
        )  # fmt: skip
        c = _square(flat, one + n(6) * wide, two + n(6) * wide, x) + _square(
            flat, one + n(7) * wide, two + n(7) * wide, x
        )
        columns[x] = (a + b) + c
        c += _square(flat, one + n(8) * wide, two + n(8) * wide, x)
        d = _square(flat, one + n(9) * wide, two + n(9) * wide, x) + _square(
            flat, one + n(10) * wide, two + n(10) * wide, x
        )
        columns[second + x] = (b + c) + d
        d += _square(flat, one + n(11) * wide, two + n(11) * wide, x)
        e = _square(flat, one + n(12) * wide, two + n(12) * wide, x) + _square(
            flat, one + n(13) * wide, two + n(13) * wide, x
        )
        columns[third + x] = (c + d) + e


@_compiled
def _quad_sums(columns, quads, count):  # type: ignore[no-untyped-def]
    """Sums of four columns side by side."""
    one, two, three = np.uint64(1), np.uint64(2), np.uint64(3)
    for x in range(count):
        quads[x] = (columns[x] + columns[x + one]) + (columns[x + two] + columns[x + three])


@_compiled
def _take(quads, low, high, base, worst, keys, row, size, nearer):  # type: ignore[no-untyped-def]
    """Enter the blocks of one shift that are nearer than the farthest kept so far.

    Quads begin at the column `low`; columns end before `high`. `row` is the position of the
    references' first key; `nearer` has room for the numbers of all references.
    """
    four, step = np.uint64(BLOCK // 2), np.uint64(STEP)
    begin, end = np.uint64((low + STEP - 1) // STEP), np.uint64((high - BLOCK) // STEP + 1)
    at = begin * step - np.uint64(low)
    found = np.uint64(0)
    for i in range(begin, end):  # without a branch: which are nearer cannot be foreseen
        nearer[found] = i
        found += np.uint64(quads[at] + quads[at + four] < worst[i])
        at += step
    for n in range(found):
        i = nearer[n]
        at = i * step - np.uint64(low)
        distance, where = quads[at] + quads[at + four], base + np.int64(i * step)
        worst[i] = _enter(distance, where, keys, row + i * size, size)


@_compiled
def _take_last(quads, low, edge, base, worst, keys, row, size):  # type: ignore[no-untyped-def]
    """The same for the last reference, which is not a step from the one before."""
    last, at = np.uint64(worst.size - 1), np.uint64(edge - low)
    distance = quads[at] + quads[at + np.uint64(BLOCK // 2)]
    if distance < worst[last]:
        worst[last] = _enter(distance, base + edge, keys, row + last * size, size)


@_compiled
def _enter(distance, where, keys, at, size):  # type: ignore[no-untyped-def]
    """Put a block in the position of the farthest one kept; the distance of the farthest then.

    The keys behind a reference's first are a heap with the largest on top: those of position k are
    not below those of 2 k and 2 k + 1.
    """
    key = (np.int64(distance * _FINE) << _SHIFT) + where
    one, k = np.uint64(1), np.uint64(1)
    child = np.uint64(2)
    while child < size:
        if child + one < size and keys[at + child + one] > keys[at + child]:
            child += one
        if keys[at + child] <= key:
            break
        keys[at + k] = keys[at + child]
        k, child = child, child + child
    keys[at + k] = key
    return np.float32(keys[at + one] >> _SHIFT) / _FINE
