"""Model of wavelet bands, bit plane by bit plane, most significant first.

Blocks of 8x8 that hold nothing yet take one decision a plane; within the others each magnitude's
next bit is coded in contexts of its neighbours, its parent in the coarser band and its sibling of
another orientation, where known (after Shapiro, IEEE Trans. Signal Processing 41(12), 1993,
doi:10.1109/78.258085, and Taubman, IEEE Trans. Image Processing 9(7), 2000,
doi:10.1109/83.847830, with contexts mixed instead of chosen).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Int32, Int64, UInt8
from magnetite.core.codecs.entropy.blocks_model import class_of
from magnetite.core.codecs.entropy.coder import NEXT, code_alone, code_mixed, compiled, forced

Slots = NDArray[np.uint32]

BLOCK = 8
_1, _2 = np.uint64(1), np.uint64(2)
#: Zeros around the maps, so that no position outside is asked for.
PAD = 2
_LIMIT = 500

#: Where the slots of each kind begin.
_REFINE = 4 * 16384
_SIGN = _REFINE + 4 * 4096
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
    _double(band)
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
def _double(band: Band) -> None:
    """Magnitudes in units of the next plane; blocks that hold nothing stay 0."""
    known = band.known
    height, width = known.shape[0] - 2 * PAD, known.shape[1] - 2 * PAD
    for bi in range(band.planes.shape[0]):
        for bj in range(band.planes.shape[1]):
            if band.alive[bi + 1, bj + 1] != 0:
                for y in range(bi * BLOCK + PAD, min(height, bi * BLOCK + BLOCK) + PAD):
                    for x in range(bj * BLOCK + PAD, min(width, bj * BLOCK + BLOCK) + PAD):
                        known[y, x] *= 2


@compiled
def _plane(
    c: Int64, data: UInt8, band: Band, parent: Int32, sibling: Int32,
    plane: int, o: int, level: int, stop: int, slots: Slots, weights: Int32,
) -> bool:  # fmt: skip
    known, signs, alive = band.known, band.signs, band.alive
    height, width = known.shape[0] - 2 * PAD, known.shape[1] - 2 * PAD
    kind, plane_class = o * 8 + min(7, level), min(15, plane)
    for bi in range(band.planes.shape[0]):
        for bj in range(band.planes.shape[1]):
            if alive[bi + 1, bj + 1] == 0:
                waking = int(band.tops[bi, bj] > plane)
                position = _WAKE + kind * 64 + _company(alive, parent, bi, bj)
                waking = code_alone(c, data, waking, slots, position)
                if c[NEXT] > stop:
                    return False
                alive[bi + 1, bj + 1] = waking
            if alive[bi + 1, bj + 1] != 0:
                for i in range(bi * BLOCK, min(height, bi * BLOCK + BLOCK)):
                    for j in range(bj * BLOCK, min(width, bj * BLOCK + BLOCK)):
                        y, x = np.uint64(i + PAD), np.uint64(j + PAD)
                        number = np.int64(band.values[np.uint64(i), np.uint64(j)])
                        bit = (abs(number) >> plane) & 1
                        own = np.int64(known[y, x])
                        mixer, first, second, third, fourth = _context(
                            known, parent, sibling, i, j, o, kind, plane_class
                        )
                        if mixer < 0:
                            bit = code_alone(c, data, bit, slots, first)
                        else:
                            bit = code_mixed(
                                c, data, bit, slots, first, second, third, fourth,
                                weights, mixer, _LIMIT,
                            )  # fmt: skip
                        if bit != 0 and own == 0 and c[NEXT] <= stop:
                            position = _SIGN + o * 32 + _signs_around(signs, y, x)
                            negative = code_alone(c, data, int(number < 0), slots, position)
                            signs[y, x] = 1 - 2 * negative
                        if c[NEXT] > stop:
                            return False
                        known[y, x] = own + bit
            band.planes[bi, bj] = plane
    return True


@forced
def _context(
    known: Int32, parent: Int32, sibling: Int32, i: int, j: int, o: int, kind: int, plane: int
) -> tuple[int, int, int, int, int]:
    """The mixer and slots of a magnitude's next bit; mixer -1 for the first slot alone."""
    y, x = np.uint64(i + PAD), np.uint64(j + PAD)
    own = np.int64(known[y, x])
    side = np.int64(known[y, x - _1]) + known[y, x + _1]
    post = np.int64(known[y - _1, x]) + known[y + _1, x]
    corners = np.int64(known[y - _1, x - _1]) + known[y - _1, x + _1]
    corners += np.int64(known[y + _1, x - _1]) + known[y + _1, x + _1]
    above = _above(parent, np.uint64((i >> 1) + PAD), np.uint64((j >> 1) + PAD))
    if own != 0:
        m, n = min(3, own >> 1), class_of((side + post) >> 1)
        around = class_of((2 * (side + post) + corners + above) >> 3)
        return (
            64 + m * 12 + min(11, n),
            _REFINE + (m * 16 + n) * 16 + class_of(above >> 1),
            _REFINE + 4096 + kind * 64 + m * 16 + n,
            _REFINE + 2 * 4096 + (m * 16 + plane) * 16 + n,
            _REFINE + 3 * 4096 + (m * 16 + class_of(corners >> 1)) * 16 + around,
        )
    beyond = np.int64(known[y - _2, x]) + known[y + _2, x]
    beyond += np.int64(known[y, x - _2]) + known[y, x + _2]
    near, kin = 2 * (side + post) + corners, np.int64(sibling[y, x])
    if near + above + beyond + kin == 0:
        # No significant neighbour: skip mixing.
        return -1, _QUIET + kind * 16 + plane, 0, 0, 0
    n, p = class_of(near), class_of(above)
    s = class_of((2 * near + above + beyond + kin) >> 2)
    ring = (min(7, class_of(side)) * 8 + min(7, class_of(post))) * 8 + min(7, class_of(corners))
    return (
        o * 16 + s,
        o * 512 + ring,
        16384 + (n * 16 + class_of(beyond)) * 16 + p,
        2 * 16384 + ((o * 16 + class_of(kin)) * 16 + n) * 4 + min(3, p),
        3 * 16384 + (kind * 16 + s) * 16 + class_of(beyond + side),
    )


@forced
def _above(parent: Int32, y: int, x: int) -> int:
    """Twice the magnitude at a position of the coarser band, and its four neighbours'."""
    adjacent = np.int64(parent[y - _1, x]) + parent[y + _1, x]
    adjacent += np.int64(parent[y, x - _1]) + parent[y, x + _1]
    return adjacent + 2 * np.int64(parent[y, x])


@forced
def _signs_around(signs: Int32, y: int, x: int) -> int:
    """Signs to the left and right, and above and below: 0 to 24."""
    across = np.int64(signs[y, x - _1]) + signs[y, x + _1]
    down = np.int64(signs[y - _1, x]) + signs[y + _1, x]
    return (across + 2) * 5 + down + 2


@forced
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
