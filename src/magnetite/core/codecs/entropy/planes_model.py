"""Model of wavelet bands, bit plane by bit plane, most significant first.

Blocks of 8x8 that hold nothing yet take one decision a plane; within the others each magnitude's
next bit is coded by what its neighbours, its parent in the coarser band and its sibling of another
orientation are known to be (after Shapiro, IEEE Trans. Signal Processing 41(12), 1993,
doi:10.1109/78.258085, and Taubman, IEEE Trans. Image Processing 9(7), 2000,
doi:10.1109/83.847830, with contexts mixed instead of chosen).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Int32, Int64, UInt8
from magnetite.core.codecs.entropy.blocks_model import class_of
from magnetite.core.codecs.entropy.coder import (
    NEXT,
    Places,
    code_alone,
    code_mixed_3,
    code_mixed_4,
    compiled,
    inlined,
)

Slots = NDArray[np.uint32]

BLOCK = 8
#: Zeros around the maps, so that no place outside is asked for.
PAD = 2
INPUTS = 4
_LIMIT = 500

#: Where the slots of each kind begin.
_REFINE = 4 * 16384
_SIGN = _REFINE + 3 * 4096
_WAKE = _SIGN + 4 * 32
_QUIET = _WAKE + 4 * 8 * 64
SLOTS = _QUIET + 4 * 8 * 16
#: Mixers: of zeros by orientation and surroundings, then of refinements.
SETS = 64 + 48


class Band(NamedTuple):
    """A band while it is coded.

    `known` are magnitudes in units of the current plane, `signs` -1, 0 or 1 where known, both
    with a margin; `alive` says whether a block holds anything yet, with a margin of 1, `planes`
    down to which plane a block is known. `values` and `tops` are the encoder's: the numbers
    and, for each block, how many planes they need.
    """

    known: Int32
    signs: Int32
    alive: Int32
    planes: Int32
    values: Int32
    tops: Int32


def band_of(values: Int32) -> Band:
    """Maps of a band; for a decoder `values` are zeros of its shape."""
    height, width = values.shape
    blocks = -(-height // BLOCK), -(-width // BLOCK)
    padded = (height + 2 * PAD, width + 2 * PAD)
    whole = np.zeros((blocks[0] * BLOCK, blocks[1] * BLOCK), np.int32)
    whole[:height, :width] = np.abs(values)
    largest = whole.reshape(blocks[0], BLOCK, blocks[1], BLOCK).max(axis=(1, 3))
    return Band(
        np.zeros(padded, np.int32),
        np.zeros(padded, np.int32),
        np.zeros((blocks[0] + 2, blocks[1] + 2), np.int32),
        np.full(blocks, 31, np.int32),
        values,
        np.frexp(largest.astype(np.float64))[1].astype(np.int32),
    )


@compiled
def code_plane(
    c: Int64, data: UInt8, band: Band, parent: Int32, sibling: Int32,
    plane: int, orientation: int, level: int, stop: int, slots: Slots, weights: Int32,
) -> bool:  # fmt: skip
    """Code or decode one bit plane of a band; False if a byte after `stop` was needed.

    `parent` and `sibling` are the known magnitudes of other bands, with their margins.
    """
    whole = _plane(
        c, data, band, parent, sibling, plane, orientation, level, stop, slots, weights
    )  # fmt: skip
    if not whole:  # blocks that were not reached are known to the plane before
        for i in range(band.known.shape[0] - 2 * PAD):
            for j in range(band.known.shape[1] - 2 * PAD):
                if band.planes[i // BLOCK, j // BLOCK] != plane:
                    band.known[i + PAD, j + PAD] >>= 1
    return whole


@compiled
def _plane(
    c: Int64, data: UInt8, band: Band, parent: Int32, sibling: Int32,
    plane: int, orientation: int, level: int, stop: int, slots: Slots, weights: Int32,
) -> bool:  # fmt: skip
    known = band.known
    height, width = known.shape[0] - 2 * PAD, known.shape[1] - 2 * PAD
    at, room = np.empty(INPUTS, np.uint64), np.empty(INPUTS, np.int64)
    for y in range(PAD, height + PAD):
        for x in range(PAD, width + PAD):
            known[y, x] *= 2
    for bi in range(band.planes.shape[0]):
        for bj in range(band.planes.shape[1]):
            if band.alive[bi + 1, bj + 1] == 0:
                waking = int(band.tops[bi, bj] > plane)
                place = _WAKE + (orientation * 8 + min(7, level)) * 64
                place += _company(band.alive, parent, bi, bj)
                waking = code_alone(c, data, waking, slots, place)
                if c[NEXT] > stop:
                    return False
                band.alive[bi + 1, bj + 1] = waking
            if band.alive[bi + 1, bj + 1] != 0:
                for i in range(bi * BLOCK, min(height, bi * BLOCK + BLOCK)):
                    for j in range(bj * BLOCK, min(width, bj * BLOCK + BLOCK)):
                        bit = (abs(band.values[i, j]) >> plane) & 1
                        if known[i + PAD, j + PAD] != 0:
                            bit = _refine(
                                c, data, bit, known, i, j, parent, plane, orientation, level,
                                slots, weights, at, room,
                            )  # fmt: skip
                        else:
                            bit = _first(
                                c, data, bit, known, i, j, parent, sibling, plane, orientation,
                                level, slots, weights, at, room,
                            )  # fmt: skip
                            if bit != 0 and c[NEXT] <= stop:
                                sign = int(band.values[i, j] < 0)
                                sign = _sign(c, data, sign, band.signs, i, j, orientation, slots)
                                band.signs[i + PAD, j + PAD] = 1 - 2 * sign
                        if c[NEXT] > stop:
                            return False
                        known[i + PAD, j + PAD] += bit
            band.planes[bi, bj] = plane
    return True


@inlined
def _company(alive: Int32, parent: Int32, bi: int, bj: int) -> int:
    """Which blocks around hold something, and whether the parents of this one do: 0 to 63."""
    nearest = alive[bi, bj + 1] + alive[bi + 1, bj] + alive[bi + 2, bj + 1] + alive[bi + 1, bj + 2]
    corners = alive[bi, bj] + alive[bi, bj + 2] + alive[bi + 2, bj] + alive[bi + 2, bj + 2]
    total = 0
    for y in range(bi * 4 + PAD, min(parent.shape[0] - PAD, bi * 4 + 4 + PAD)):
        for x in range(bj * 4 + PAD, min(parent.shape[1] - PAD, bj * 4 + 4 + PAD)):
            total += min(4, parent[y, x])
    parents = 0 if total == 0 else 1 if total < 4 else 2 if total < 16 else 3
    return (nearest * 3 + min(2, corners)) * 4 + parents


@inlined
def _above(parent: Int32, i: int, j: int) -> int:
    y, x = (i >> 1) + PAD, (j >> 1) + PAD
    beside = parent[y - 1, x] + parent[y + 1, x] + parent[y, x - 1] + parent[y, x + 1]
    return 2 * parent[y, x] + beside


@compiled
def _first(
    c: Int64, data: UInt8, bit: int, known: Int32, i: int, j: int, parent: Int32, sibling: Int32,
    plane: int, o: int, level: int,
    slots: Slots, weights: Int32, at: Places, room: Int64,
) -> int:  # fmt: skip
    """Whether a magnitude that is 0 so far begins here."""
    y, x = i + PAD, j + PAD
    side = known[y, x - 1] + known[y, x + 1]
    post = known[y - 1, x] + known[y + 1, x]
    corners = known[y - 1, x - 1] + known[y - 1, x + 1] + known[y + 1, x - 1] + known[y + 1, x + 1]
    beyond = known[y - 2, x] + known[y + 2, x] + known[y, x - 2] + known[y, x + 2]
    near, above, kin = 2 * (side + post) + corners, _above(parent, i, j), sibling[y, x]
    level = min(7, level)
    if near + above + beyond + kin == 0:
        # Nothing anywhere near: one opinion is as good as several, and faster.
        return code_alone(c, data, bit, slots, _QUIET + (o * 8 + level) * 16 + min(15, plane))
    n, p = class_of(near), class_of(above)
    s = class_of((2 * near + above + beyond + kin) >> 2)
    ring = (min(7, class_of(side)) * 8 + min(7, class_of(post))) * 8 + min(7, class_of(corners))
    at[0] = o * 512 + ring
    at[1] = 16384 + (n * 16 + class_of(beyond)) * 16 + p
    at[2] = 2 * 16384 + ((o * 16 + class_of(kin)) * 16 + n) * 4 + min(3, p)
    at[3] = 3 * 16384 + ((o * 8 + level) * 16 + s) * 16 + class_of(beyond + side)
    return code_mixed_4(c, data, bit, slots, at, weights[o * 16 + s], room, _LIMIT)


@compiled
def _refine(
    c: Int64, data: UInt8, bit: int, known: Int32, i: int, j: int, parent: Int32,
    plane: int, o: int, level: int, slots: Slots, weights: Int32, at: Places, room: Int64,
) -> int:  # fmt: skip
    """The next bit of a magnitude that has begun."""
    y, x = i + PAD, j + PAD
    near = known[y, x - 1] + known[y, x + 1] + known[y - 1, x] + known[y + 1, x]
    m, n = min(3, known[y, x] >> 1), class_of(near >> 1)
    at[0] = _REFINE + (m * 16 + n) * 16 + class_of(_above(parent, i, j) >> 1)
    at[1] = _REFINE + 4096 + (o * 8 + min(7, level)) * 64 + m * 16 + n
    at[2] = _REFINE + 2 * 4096 + (m * 16 + min(15, plane)) * 16 + n
    mixer = weights[64 + m * 12 + min(11, n)]
    return code_mixed_3(c, data, bit, slots, at, mixer, room, _LIMIT)


@compiled
def _sign(
    c: Int64, data: UInt8, negative: int, signs: Int32, i: int, j: int, o: int, slots: Slots
) -> int:
    """1 for a negative number, by the signs beside and above."""
    y, x = i + PAD, j + PAD
    across = signs[y, x - 1] + signs[y, x + 1]
    down = signs[y - 1, x] + signs[y + 1, x]
    return code_alone(c, data, negative, slots, _SIGN + o * 32 + (across + 2) * 5 + down + 2)
