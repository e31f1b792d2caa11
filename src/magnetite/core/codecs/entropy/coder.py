"""Adaptive binary range coder, probabilities that learn, and their mixing by logistic regression.

All arithmetic is in whole numbers, so that every decoder makes the same decisions. One function
codes a bit in both directions: given a bit it encodes, from bytes it decodes. So a model is
written once.

Sources: Martin, IERE Video and Data Recording Conf., 1979 (range coding, here without carries:
bytes leave as soon as both ends of the range agree on them); Mattern, Data Compression Conf.,
2012, doi:10.1109/DCC.2012.16 (mixing in the logistic domain).
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Int32, Int64, UInt8
from magnetite.core.compute.jit import compiled as _jit

compiled = _jit(boundscheck=False)
#: Inlined by LLVM: passing arrays to a function takes longer than their work. Their indices are
#: unsigned, so that none is taken for one counted from the end.
forced = _jit(boundscheck=False, forceinline=True)

#: Positions of a coder's state: both ends of the range, the decoded value, the next byte, the last
#: byte there is, and whether it decodes.
LOW, HIGH, VALUE, NEXT, END, DECODING = range(6)
#: A decoder of a whole stream takes in three bytes more than there are; one that takes in more has
#: run past its end, and models stop at the next row or block.
PAST_END = 3
_TOP, _ALL = 0xFF000000, 0xFFFFFFFF

#: ln(p / (1 - p)) in 256ths for p at the middle of each of 4096 steps, and back to 65536ths.
_LARGEST = 3071
STRETCH = np.array([round(256 * math.log((i + 0.5) / (4095.5 - i))) for i in range(4096)], np.int32)
SQUASH = np.array(
    [
        min(65532, max(4, round(65536 / (1 + math.exp(-i / 256)))))
        for i in range(-_LARGEST, _LARGEST + 1)
    ],
    np.int32,
)
#: How far a probability moves after n bits, in 65536ths: 1 / (n + 1.6).
_PACE = np.array([round(65536 / (n + 1.6)) for n in range(1024)], np.int32)
#: A slot holds a probability in 22 bits above a count in 10: one half, never used.
FRESH = 1 << 31
#: Slots that a mixer takes.
INPUTS = 4
#: Sum of the first weights of all inputs, in 65536ths: their evidence adds up.
_FIRST_WEIGHTS = 70000


def new_coder(decoding: bool, size: int) -> Int64:
    """State of a coder over `size` bytes; `open_decoder` takes in the first of them."""
    return np.array([0, _ALL, 0, 0, size, int(decoding)], np.int64)


def new_slots(count: int) -> NDArray[np.uint32]:
    """Probabilities of contexts, shape (count,), all one half."""
    return np.full(count, FRESH, np.uint32)


def new_weights(sets: int) -> Int32:
    """Weights of mixers, shape (sets `INPUTS`,)."""
    return np.full(sets * INPUTS, _FIRST_WEIGHTS // INPUTS, np.int32)


@compiled
def open_decoder(c: Int64, data: UInt8) -> None:
    """Take in the first four bytes; nothing follows the end but zeros."""
    for _ in range(4):
        c[VALUE] = (c[VALUE] << 8) | (data[c[NEXT]] if c[NEXT] < c[END] else 0)
        c[NEXT] += 1


@compiled
def close_encoder(c: Int64, data: UInt8) -> int:
    """Write the one byte that still distinguishes the range; the length of all."""
    if c[NEXT] < c[END]:
        data[c[NEXT]] = (c[LOW] >> 24) + 1
    c[NEXT] += 1
    length: int = c[NEXT]
    return length


@forced
def code(c: Int64, data: UInt8, bit: int, p: int) -> int:
    """Code one bit that is 1 with a probability of p 65536ths; returns it."""
    low, high = c[0], c[1]
    reach = high - low
    middle = low + (reach >> 16) * p + (((reach & 0xFFFF) * p) >> 16)
    if c[5] != 0:
        bit = 1 if c[2] <= middle else 0
    if bit != 0:
        high = middle
    else:
        low = middle + 1
    while ((low ^ high) & _TOP) == 0:
        position = c[3]
        if c[5] != 0:
            following = np.int64(data[np.uint64(position)]) if position < c[4] else np.int64(0)
            c[2] = ((c[2] << 8) & _ALL) | following
        elif position < c[4]:
            data[np.uint64(position)] = high >> 24
        c[3] = position + 1
        low = (low << 8) & _ALL
        high = ((high << 8) & _ALL) | 255
    c[0], c[1] = low, high
    return bit


@forced
def learn(slots: NDArray[np.uint32], at: int, bit: int, limit: int) -> None:
    """Move a slot's probability towards the bit, the less the more it has seen."""
    slot = np.int64(slots[np.uint64(at)])
    p, n = slot >> 10, slot & 1023
    pace = np.int64(_PACE[np.uint64(n)])
    if bit != 0:
        p += ((4194303 - p) * pace) >> 16
    else:
        p -= (p * pace) >> 16
    slots[np.uint64(at)] = np.uint32((p << 10) | (n + np.int64(n < limit)))


@forced
def code_alone(c: Int64, data: UInt8, bit: int, slots: NDArray[np.uint32], at: int) -> int:
    """Code a bit by one slot."""
    p = np.int64(slots[np.uint64(at)]) >> 16
    bit = code(c, data, bit, min(65500, max(36, p)))
    learn(slots, at, bit, 255)
    return bit


@forced
def _opinion(slots: NDArray[np.uint32], at: int) -> int:
    """ln(p / (1 - p)) of a slot, in 256ths."""
    return np.int64(STRETCH[np.uint64(np.int64(slots[np.uint64(at)]) >> 20)])


@forced
def code_mixed(
    c: Int64, data: UInt8, bit: int, slots: NDArray[np.uint32], i: int, j: int, k: int, m: int,
    weights: Int32, mixer: int, limit: int,
) -> int:  # fmt: skip
    """Code a bit by four slots, mixed by the weights of one mixer."""
    first = mixer * INPUTS
    a, b = np.uint64(first), np.uint64(first + 1)
    d, e = np.uint64(first + 2), np.uint64(first + 3)
    wa, wb = np.int64(weights[a]), np.int64(weights[b])
    wd, we = np.int64(weights[d]), np.int64(weights[e])
    si, sj, sk, sl = _opinion(slots, i), _opinion(slots, j), _opinion(slots, k), _opinion(slots, m)
    total = (si * wa + sj * wb + sk * wd + sl * we) >> 16
    p = np.int64(SQUASH[np.uint64(min(_LARGEST, max(-_LARGEST, total)) + _LARGEST)])
    bit = code(c, data, bit, p)
    error = ((bit << 16) - p) * 14
    weights[a] = wa + ((si * error + (1 << 19)) >> 20)
    weights[b] = wb + ((sj * error + (1 << 19)) >> 20)
    weights[d] = wd + ((sk * error + (1 << 19)) >> 20)
    weights[e] = we + ((sl * error + (1 << 19)) >> 20)
    learn(slots, i, bit, limit)
    learn(slots, j, bit, limit)
    learn(slots, k, bit, limit)
    learn(slots, m, bit, limit)
    return bit


@forced
def code_unary(
    c: Int64, data: UInt8, number: int, known: int, most: int, slots: NDArray[np.uint32],
    i: int, j: int, k: int, m: int, span: int, weights: Int32, mixer: int, mixers: int, limit: int,
) -> int:  # fmt: skip
    """Code a number from `known` to `most` by decisions whether it is more than that; returns it.

    Decision n takes slots `n span` and a mixer `n mixers` further than the first.
    """
    reached = known
    while reached < most:
        on = reached * span
        more = code_mixed(
            c, data, int(number > reached), slots, i + on, j + on, k + on, m + on,
            weights, mixer + reached * mixers, limit,
        )  # fmt: skip
        if more == 0:
            break
        reached += 1
    return reached
