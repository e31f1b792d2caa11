"""The hot loop of block matching: for a row of reference blocks, those most like each.

For each shift the squared differences are summed over columns, then over blocks, for the whole row
at once. Places are unsigned, so that many can be worked on at a time.
"""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float32, Int64
from magnetite.core.compute.jit import compiled
from magnetite.core.restore.kernels.geometry import BLOCK, STEP

#: A number as these loops take it.
Single = float | np.float32

_compiled = compiled(fastmath=True)

#: Distances are kept in whole numbers of 1/16, above the place, in one number to be compared.
_FINE = np.float32(16)
_SHIFT = 32
#: Columns that are looked at together.
_CHUNK = 8


def spread(plane: Float32) -> Float32:
    """The plane with padded rows, so that samples below one another share no cache line set."""
    stride = -(-plane.shape[1] // 1024) * 1024 + 80
    wide = np.zeros((plane.shape[0], stride), np.float32)
    wide[:, : plane.shape[1]] = plane
    return wide


@_compiled
def match_row(
    plane: Float32, width: int, top: int, reach: int, farthest: Single, keys: Int64
) -> None:
    """For each reference block of a row the blocks around with the least squared difference.

    Parameters
    ----------
    plane : float32 array, shape (h, at least w)
        See `spread`.
    width : int
        w; both it and h are at least 8.
    top : int
        Row of the references' upper edge; their left edges are 0, 3, 6, … and w - 8.
    reach : int
        Largest shift up, down, left and right, in px.
    farthest : float
        Blocks are taken whose sum of squared differences is smaller than this.
    keys : int64 array, shape (references, n)
        The nearest first, itself before all: 16 times the distance in the upper half, the place
        (row times w plus column) in the lower, -1 where there is none.
    """
    height, count = plane.shape[0], keys.shape[0]
    limit = np.int64(farthest * _FINE)
    keys[:] = limit << _SHIFT
    # By column: how near a block must be to be taken; 0 where no reference is. Room for a chunk.
    worst = np.zeros(width + 2 * _CHUNK, np.float32)
    for i in range(count):
        left = min(i * STEP, width - BLOCK)
        keys[i, 0] = top * width + left
        worst[left] = farthest
    flat, ordered, wide = plane.reshape(-1), keys.reshape(-1), np.uint64(plane.shape[1])
    columns = np.zeros(width + 2 * _CHUNK, np.float32)
    quads = np.zeros(width + 2 * _CHUNK, np.float32)
    size, edge = np.uint64(keys.shape[1]), np.uint64(width - BLOCK)
    # From near to far: what is near is most often alike, and then little else is nearer.
    for i in range(2 * reach + 1):
        y = top + _outwards(i)
        if not 0 <= y <= height - BLOCK:
            continue
        for j in range(2 * reach + 1):
            shift = _outwards(j)
            if (y == top and shift == 0) or width - abs(shift) < BLOCK:
                continue
            low, high = max(0, -shift), min(width, width - shift)
            some = np.uint64(high - low)
            one = np.uint64(top) * wide + np.uint64(low)
            two = np.uint64(y) * wide + np.uint64(low + shift)
            _column_sums(flat, columns, one, two, wide, some)
            _quad_sums(columns, quads, some - np.uint64(3))
            _take(quads, some - np.uint64(7), np.uint64(low), y * width + shift, edge, worst,
                  ordered, size)  # fmt: skip
    for i in range(count):
        for j in range(1, keys.shape[1]):
            if keys[i, j] >> _SHIFT >= limit:
                keys[i, j] = -1


@_compiled
def _outwards(i):  # type: ignore[no-untyped-def]
    """0, -1, 1, -2, 2, …"""
    return (i + 1) // 2 * (1 - 2 * (i % 2))


@_compiled
def _column_sums(flat, columns, one, two, wide, count):  # type: ignore[no-untyped-def]
    """Squared differences, summed over the eight rows of a block, of each column."""
    one1, two1 = one + wide, two + wide
    one2, two2 = one1 + wide, two1 + wide
    one3, two3 = one2 + wide, two2 + wide
    for x in range(count):
        a, b = flat[one + x] - flat[two + x], flat[one1 + x] - flat[two1 + x]
        c, d = flat[one2 + x] - flat[two2 + x], flat[one3 + x] - flat[two3 + x]
        columns[x] = (a * a + b * b) + (c * c + d * d)
    one, two = one3 + wide, two3 + wide
    one1, two1 = one + wide, two + wide
    one2, two2 = one1 + wide, two1 + wide
    one3, two3 = one2 + wide, two2 + wide
    for x in range(count):
        a, b = flat[one + x] - flat[two + x], flat[one1 + x] - flat[two1 + x]
        c, d = flat[one2 + x] - flat[two2 + x], flat[one3 + x] - flat[two3 + x]
        columns[x] += (a * a + b * b) + (c * c + d * d)


@_compiled
def _quad_sums(columns, quads, count):  # type: ignore[no-untyped-def]
    """Sums of four columns side by side."""
    one, two, three = np.uint64(1), np.uint64(2), np.uint64(3)
    for x in range(count):
        quads[x] = (columns[x] + columns[x + one]) + (columns[x + two] + columns[x + three])


@_compiled
def _take(quads, count, low, base, edge, worst, keys, size):  # type: ignore[no-untyped-def]
    """Enter the blocks of one shift that are nearer than the farthest kept so far.

    Most are not: a chunk of columns is looked at together before any reference alone.
    """
    four, chunk, step = np.uint64(4), np.uint64(_CHUNK), np.uint64(STEP)
    for begin in range(np.uint64(0), count, chunk):
        nearer, at = np.float32(0), low + begin
        for i in range(chunk):
            distance = quads[begin + i] + quads[begin + i + four]
            nearer = max(nearer, worst[at + i] - distance)
        if nearer > 0:
            end = min(count, begin + chunk)
            for i in range(begin + (step - at % step) % step, end, step):
                _enter(quads, i, low, base, worst, keys, size)
            if edge % step != 0 and at <= edge < low + end:
                _enter(quads, edge - low, low, base, worst, keys, size)


@_compiled
def _enter(quads, i, low, base, worst, keys, size):  # type: ignore[no-untyped-def]
    """One reference against its block, if that is nearer than the farthest kept."""
    distance = quads[i] + quads[i + np.uint64(4)]
    if distance < worst[low + i]:
        key = (np.int64(distance * _FINE) << _SHIFT) + base + np.int64(low + i)
        row = (low + i + np.uint64(STEP - 1)) // np.uint64(STEP)
        worst[low + i] = _insert(keys, row * size, size, key)


@_compiled
def _insert(keys, begin, size, key):  # type: ignore[no-untyped-def]
    """Put a key at its place among those of a reference; the distance of the last then."""
    one = np.uint64(1)
    last = begin + size - one
    j = last
    while j > begin + one and keys[j - one] > key:
        keys[j] = keys[j - one]
        j -= one
    keys[j] = key
    return np.float32(keys[last] >> _SHIFT) / _FINE
