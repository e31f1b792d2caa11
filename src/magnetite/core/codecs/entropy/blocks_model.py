"""Context model of quantized transform coefficients of blocks, by their neighbours."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Int32, Int64, UInt8
from magnetite.core.codecs.entropy.coder import (
    PAST_END,
    code_alone,
    code_unary,
    compiled,
    forced,
    new_slots,
    new_weights,
)

#: Classes of sums of magnitudes, 16: exact when small, coarser above.
CLASS = np.array(
    [0, 1, 2, 3, 4, 5, 6, 7, 7, 8, 8, 9, 9, 9, 10, 10, 10, 10, 11, 11, 11, 11, 11, 11]
    + [12] * 12 + [13] * 24 + [14] * 60 + [15], np.int64,
)  # fmt: skip
_FREQUENCIES = 64
_LIMIT = 400


@forced
def class_of(total: int) -> int:
    return np.int64(CLASS[np.uint64(min(120, total))])


@compiled
def code_blocks(
    c: Int64, data: UInt8, q: Int32, scan: Int64,
    slots: NDArray[np.uint32], weights: Int32,
) -> None:  # fmt: skip
    """Code or decode coefficients, shape (rows, columns, height, width), in place.

    `scan` holds row, column and frequency class of each position of a block in coding order.
    """
    rows, columns, height, width = q.shape
    decoding = c[5] != 0
    # Magnitudes of this row of blocks and of that above, in a margin of zeros.
    m = np.zeros((2, columns + 2, height + 3, width + 3), np.int32)
    for i in range(rows):
        here_row, row_above = m[i & 1], m[1 - (i & 1)]
        for j in range(columns):
            if decoding and c[3] > c[4] + PAST_END:
                return
            here, west = here_row[j + 1], here_row[j]
            north, north_west, north_east = row_above[j + 1], row_above[j], row_above[j + 2]
            recent = 0
            for k in range(scan.shape[0]):
                u, v, f = scan[k, 0], scan[k, 1], scan[k, 2]
                y, x = u + 2, v + 2
                inner = (
                    2 * (here[y - 1, x] + here[y, x - 1])
                    + here[y - 1, x - 1]
                    + here[y - 2, x]
                    + here[y, x - 2]
                )
                outer = 2 * (north[y, x] + west[y, x]) + north_west[y, x] + north_east[y, x]
                around = (
                    north[y + 1, x]
                    + north[y, x + 1]
                    + west[y + 1, x]
                    + west[y, x + 1]
                    + north[y - 1, x]
                    + north[y, x - 1]
                    + west[y - 1, x]
                    + west[y, x - 1]
                )
                a, b, d = class_of(inner), class_of(outer), class_of(around)
                e = class_of(recent >> 2)
                s = class_of((inner + outer + (around >> 1) + (recent >> 3)) >> 1)
                if k == 0:
                    predicted = _predicted(q, i, j)
                    value = q[i, j, u, v] - predicted
                else:
                    predicted = 0
                    value = q[i, j, u, v]
                first = (f * 16 + b) * 16 + min(a, 7)
                second = 16384 + f * 16 + a
                third = 32768 + f * 16 + s
                fourth = 49152 + (f * 16 + e) * 8 + min(d, 7)
                if a + b + d == 0:
                    # All neighbours zero: skip mixing.
                    position = QUIET + (f * 16 + e) * 2 + int(k == 0)
                    known = code_alone(c, data, int(value != 0), slots, position)
                else:
                    known = 2
                magnitude = 0
                if known:
                    size = abs(value)
                    magnitude = code_unary(
                        c, data, size, known & 1, 3, slots, first, second, third, fourth, SPAN,
                        weights, f, 64, _LIMIT,
                    )  # fmt: skip
                    if magnitude == 3:
                        magnitude += code_gamma(c, data, size - 3, slots, LONG + s * 64)
                if magnitude != 0:
                    signs = 3 * _sign(q, i - 1, j, u, v) + _sign(q, i, j - 1, u, v)
                    position = SIGNS + (f if k else 64) * 9 + signs
                    negative = code_alone(c, data, int(value < 0), slots, position)
                    value = -magnitude if negative else magnitude
                else:
                    value = 0
                if decoding:
                    q[i, j, u, v] = value + predicted
                here[y, x] = min(magnitude, 255)
                recent += (min(magnitude, 255) * 16 - recent) >> 2


#: Where the slots of each kind begin: three sorts of decisions on magnitudes, signs, the rest.
SPAN = 65536
SIGNS = 3 * SPAN
LONG = SIGNS + 65 * 9
QUIET = LONG + 64 * 64
SLOTS = QUIET + 64 * 32
SETS = 3 * 64


@forced
def _sign(q: Int32, i: int, j: int, u: int, v: int) -> int:
    """0 for a negative number, 1 for none, 2 for a positive one."""
    if i < 0 or j < 0:
        return 1
    return 1 + int(q[i, j, u, v] > 0) - int(q[i, j, u, v] < 0)


@forced
def _predicted(q: Int32, i: int, j: int) -> int:
    """The lowest frequency from those of the left and upper blocks."""
    if i > 0 and j > 0:
        north, west, corner = q[i - 1, j, 0, 0], q[i, j - 1, 0, 0], q[i - 1, j - 1, 0, 0]
        least, most = min(north, west), max(north, west)
        if corner >= most:
            return least
        if corner <= least:
            return most
        return north + west - corner
    if i > 0:
        return q[i - 1, j, 0, 0]
    if j > 0:
        return q[i, j - 1, 0, 0]
    return 0


@compiled
def code_gamma(c: Int64, data: UInt8, number: int, slots: NDArray[np.uint32], first: int) -> int:
    """A number of 0 or more: how many bits `number + 1` has, in unary, then the bits."""
    target = number + 1
    bits = 0
    while bits < 31:
        if code_alone(c, data, int((target >> (bits + 1)) != 0), slots, first + bits) == 0:
            break
        bits += 1
    value = 1
    for k in range(bits - 1, -1, -1):
        position = first + 32 + min(bits, 15) if k == bits - 1 else first + 48 + min(bits, 15)
        value = 2 * value + code_alone(c, data, (target >> k) & 1, slots, position)
    return value - 1


def scan_of(height: int, width: int) -> Int64:
    """Row, column, class of frequency by rising frequency, shape (height width, 3)."""
    row, column = np.arange(height), np.arange(width)
    frequency = ((row / height) ** 2)[:, np.newaxis] + (column / width) ** 2
    order = np.argsort(frequency.ravel(), kind="stable")
    scan = np.empty((height * width, 3), np.int64)
    scan[:, 0], scan[:, 1] = np.divmod(order, width)
    scan[:, 2] = (8 * scan[:, 0] // height) * 8 + 8 * scan[:, 1] // width
    return scan


def run(coder: Int64, data: UInt8, q: Int32) -> None:
    """Code or decode coefficients, shape (rows, columns, height, width), in place."""
    scan = scan_of(*q.shape[2:])
    code_blocks(coder, data, q, scan, new_slots(SLOTS), new_weights(SETS))
