"""Model of samples for lossless and near-lossless coding: predict, correct, code the error.

Several predictors are blended by how well each did nearby (Seemann and Tischer, Data Compression
Conf., 1997, doi:10.1109/DCC.1997.582062); the mean error of like surroundings is taken off (Wu and
Memon, IEEE Trans. Communications 45(4), 1997, doi:10.1109/26.585919); the rest is coded as the
number of its bits, by contexts of the errors around, its sign, and its bits from the top.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Int32, Int64, UInt8
from magnetite.core.codecs.entropy.coder import (
    PAST_END,
    Places,
    code_alone,
    code_mixed_4,
    compiled,
    inlined,
    new_slots,
    new_weights,
    next_kind,
)

#: Margin around the samples: two rows above, two columns to the left, one more to the right.
_TOP, _LEFT, _RIGHT = 2, 3, 3
_PREDICTORS = 6
_WEIGHT = np.array([2**36 // ((n + 1) ** 2 + 1) + 1 for n in range(4096)], np.int64)
_LEVEL = np.array([n.bit_length() for n in range(4096)], np.int64)
INPUTS = 4
_LIMIT = 255
_PATTERNS = 256 * 8
#: Where the slots of each kind begin: lengths by four sorts of context, signs, bits.
_SPAN = 20 * 2048
_SIGN = 4 * _SPAN
_BITS = _SIGN + 64 * 9
SLOTS = _BITS + 20 * 32 * 8
SETS = 20 * 16


@compiled
def code_samples(
    c: Int64, data: UInt8, x: Int32, low: int, high: int, bound: int,
    slots: NDArray[np.uint32], weights: Int32,
) -> None:  # fmt: skip
    """Code or decode samples, shape (height, width), from `low` to `high`, in place.

    No sample is further than `bound` from its own; an encoder's samples become what a decoder
    gets.
    """
    height, width = x.shape
    decoding = c[5] != 0
    middle = (low + high + 1) >> 1
    # Rows of samples, coded errors, and each predictor's misses: this one and two above.
    s = np.full((3, width + _LEFT + _RIGHT), middle, np.int64)
    e = np.zeros((2, width + _LEFT + _RIGHT), np.int64)
    missed = np.zeros((2, _PREDICTORS, width + _LEFT + _RIGHT), np.int64)
    guess = np.empty(_PREDICTORS, np.int64)
    bias, seen = np.zeros(_PATTERNS, np.int64), np.ones(_PATTERNS, np.int64)
    at, room = np.empty(INPUTS, np.uint64), np.empty(INPUTS, np.int64)
    step = 2 * bound + 1
    for i in range(height):
        if decoding and c[3] > c[4] + PAST_END:
            return
        here, north, north2 = s[i % 3], s[(i + 2) % 3], s[(i + 1) % 3]
        errors, errors_n = e[i & 1], e[1 - (i & 1)]
        miss, miss_n = missed[i & 1], missed[1 - (i & 1)]
        for k in range(_LEFT):  # beyond the left edge stands what is above its end
            here[k] = north[_LEFT]
        for j in range(width):
            p = j + _LEFT
            w, ww, n, nw = here[p - 1], here[p - 2], north[p], north[p - 1]
            ne, nn, nne = north[p + 1], north2[p], north2[p + 1]
            guess[0] = w
            guess[1] = n
            guess[2] = w + n - nw
            guess[3] = w + ((ne - nw) >> 1)
            guess[4] = n + ((ne - nne + n - nn) >> 1)
            guess[5] = w + ne - n
            total, sum_of_weights = np.int64(0), np.int64(0)
            for k in range(_PREDICTORS):
                penalty = (
                    2 * (miss[k, p - 1] + miss_n[k, p])
                    + miss_n[k, p - 1]
                    + miss_n[k, p + 1]
                    + miss[k, p - 2]
                )
                weight = _weight(penalty)
                total += weight * guess[k]
                sum_of_weights += weight
            predicted8 = ((total << 3) + (sum_of_weights >> 1)) // sum_of_weights
            spread = abs(w - nw) + abs(n - nw) + abs(n - ne)
            energy = (
                2 * abs(errors[p - 1])
                + 2 * abs(errors_n[p])
                + abs(errors_n[p - 1])
                + abs(errors_n[p + 1])
                + abs(errors[p - 2])
                + (spread if bound == 0 else spread // step)
            )
            level = _level(energy)
            pattern = _pattern(predicted8, w, n, nw, ne, ww, nn, level)
            corrected = predicted8 + bias[pattern] // seen[pattern]
            prediction = min(high, max(low, (corrected + 4) >> 3))
            # What is left between two whole numbers says which way the error leans.
            lean = (corrected + 4) & 7
            error = np.int64(0)
            if not decoding:
                gap = x[i, j] - prediction
                error = gap
                if bound > 0:
                    error = (gap + bound) // step if gap >= 0 else -((bound - gap) // step)
            fine = min(31, _fine(energy))
            slope = min(7, _level(abs(errors[p - 1]) * 4))
            rise = min(7, _level(abs(errors_n[p]) * 4))
            at[0] = fine * 8 + min(7, _level(abs(w - n)))
            at[1] = _SPAN + (slope * 8 + rise) * 8 + min(7, _level(abs(errors_n[p + 1]) * 4))
            at[2] = 2 * _SPAN + pattern
            across, down = min(7, _level(abs(n - ne))), min(7, _level(abs(w - nw)))
            at[3] = 3 * _SPAN + level * 64 + across * 8 + down
            error = _code_error(
                c, data, error, at, slots, weights, level, fine, lean, errors[p - 1], errors_n[p],
                room,
            )  # fmt: skip
            value = min(high, max(low, prediction + error * step))
            here[p] = value
            errors[p] = error
            x[i, j] = value
            exact = value << 3
            bias[pattern] += exact - predicted8
            seen[pattern] += 1
            if seen[pattern] >= 64:
                seen[pattern] >>= 1
                bias[pattern] >>= 1
            for k in range(_PREDICTORS):
                miss[k, p] = abs(guess[k] - value)
        for k in range(_RIGHT):
            here[width + _LEFT + k] = here[width + _LEFT - 1]
            errors[width + _LEFT + k] = 0
            for g in range(_PREDICTORS):
                miss[g, width + _LEFT + k] = miss[g, width + _LEFT - 1]


@inlined
def _weight(penalty: int) -> int:
    """Falls with the square of what a predictor missed by."""
    if penalty < 4096:
        return _WEIGHT[penalty]
    if penalty >= 1 << 17:
        return np.int64(1)
    return (np.int64(1) << 36) // ((penalty + 1) * (penalty + 1) + 1) + 1


@inlined
def _level(energy: int) -> int:
    """Number of bits of the errors around, 0 to 15."""
    return _LEVEL[energy] if energy < 4096 else min(15, 12 + _LEVEL[min(4095, energy >> 12)])


@inlined
def _fine(energy: int) -> int:
    """Logarithm in halves, 0 to 31."""
    level = _level(energy)
    if level < 2:
        return 2 * level
    return 2 * level + ((energy >> (level - 2)) & 1)


@inlined
def _pattern(p8: int, w: int, n: int, nw: int, ne: int, ww: int, nn: int, level: int) -> int:
    """Which neighbours lie below the prediction, and how large the errors are: 0 to 2047."""
    bits = (
        int((w << 3) < p8)
        | int((n << 3) < p8) << 1
        | int((nw << 3) < p8) << 2
        | int((ne << 3) < p8) << 3
        | int((ww << 3) < p8) << 4
        | int((nn << 3) < p8) << 5
        | int(((2 * n - nn) << 3) < p8) << 6
        | int(((2 * w - ww) << 3) < p8) << 7
    )
    return bits * 8 + min(7, level >> 1)


@compiled
def _code_error(
    c: Int64, data: UInt8, error: int, at: Places, slots: NDArray[np.uint32],
    weights: Int32, level: int, fine: int, lean: int, west: int, north: int, room: Int64,
) -> int:  # fmt: skip
    """Number of bits of the magnitude in unary, the sign, then the bits from the top."""
    magnitude = abs(error)
    length = 0
    while length < 17:
        more = code_mixed_4(
            c, data, int((magnitude >> length) != 0), slots, at, weights[length * 16 + level],
            room, _LIMIT,
        )  # fmt: skip
        if more == 0:
            break
        length += 1
        next_kind(at, 2048)
    if length == 0:
        return 0
    signs = (1 + (west > 0) - (west < 0)) * 3 + 1 + (north > 0) - (north < 0)
    place = _SIGN + (lean * 8 + min(7, length)) * 9 + signs
    negative = code_alone(c, data, int(error < 0), slots, place)
    value = 1
    for k in range(length - 2, -1, -1):
        depth = length - 2 - k
        bit = (magnitude >> k) & 1
        shape = value & 3 if depth < 2 else 4 + min(3, depth - 2)
        place = _BITS + (length * 32 + fine) * 8 + shape
        value = 2 * value + code_alone(c, data, bit, slots, place)
    return -value if negative else value


def run(coder: Int64, data: UInt8, x: Int32, low: int, high: int, bound: int) -> None:
    """Code or decode samples, shape (height, width), in place: see `code_samples`."""
    slots, weights = new_slots(SLOTS), new_weights(SETS, INPUTS)
    code_samples(coder, data, x, low, high, bound, slots, weights)
