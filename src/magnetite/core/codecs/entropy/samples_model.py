"""Model of samples for lossless and near-lossless coding: predict, correct, code the error.

Several predictors are blended by how well each did nearby (Seemann and Tischer, Data Compression
Conf., 1997, doi:10.1109/DCC.1997.582062); the mean error of like contexts is subtracted (Wu and
Memon, IEEE Trans. Communications 45(4), 1997, doi:10.1109/26.585919); the rest is coded as the
number of its bits, by contexts of the errors around, its sign, and its bits from the top.
"""

from __future__ import annotations

import math

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

#: Margin around the samples: two rows above, two columns to the left, one more to the right.
_TOP, _LEFT, _RIGHT = 2, 3, 3
PREDICTORS = 6
_1, _2 = np.uint64(1), np.uint64(2)
_WEIGHT = np.array([2**36 // ((n + 1) ** 2 + 1) + 1 for n in range(4096)], np.int64)
#: 1 / n in 2^-32.
_SHARE = np.array([0] + [-(-(2**32) // n) for n in range(1, 65)], np.int64)
_LEVEL = np.array([n.bit_length() for n in range(4096)], np.int64)
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

    No sample is further than `bound` from its own; an encoder's samples become those a decoder
    gets.
    """
    height, width = x.shape
    decoding = c[5] != 0
    middle = (low + high + 1) >> 1
    # Rows of samples, coded errors, and each predictor's misses: this one and two above.
    s = np.full((3, width + _LEFT + _RIGHT), middle, np.int32)
    e = np.zeros((2, width + _LEFT + _RIGHT), np.int32)
    missed = np.zeros((2, width + _LEFT + _RIGHT, PREDICTORS), np.int32)
    guess = np.empty(PREDICTORS, np.int64)
    bias, seen = np.zeros(_PATTERNS, np.int64), np.ones(_PATTERNS, np.int64)
    step = 2 * bound + 1
    for i in range(height):
        if decoding and c[3] > c[4] + PAST_END:
            return
        here, north, north2 = s[i % 3], s[(i + 2) % 3], s[(i + 1) % 3]
        errors, errors_n = e[i & 1], e[1 - (i & 1)]
        miss, miss_n = missed[i & 1], missed[1 - (i & 1)]
        for k in range(_LEFT):  # beyond the left edge: the samples above its end
            here[k] = north[_LEFT]
        for j in range(width):
            p = np.uint64(j + _LEFT)
            w, ww = np.int64(here[p - _1]), np.int64(here[p - _2])
            n, nw, ne = np.int64(north[p]), np.int64(north[p - _1]), np.int64(north[p + _1])
            nn, nne = np.int64(north2[p]), np.int64(north2[p + _1])
            guess[0] = w
            guess[1] = n
            guess[2] = w + n - nw
            guess[3] = w + ((ne - nw) >> 1)
            guess[4] = n + ((ne - nne + n - nn) >> 1)
            guess[5] = w + ne - n
            predicted8 = _blended8(guess, miss, miss_n, p)
            slant = abs(w - nw) + abs(n - nw) + abs(n - ne)
            west, rest = abs(np.int64(errors[p - _1])), abs(np.int64(errors[p - _2]))
            up, up_west = abs(np.int64(errors_n[p])), abs(np.int64(errors_n[p - _1]))
            up_east = abs(np.int64(errors_n[p + _1]))
            energy = 2 * (west + up) + up_west + up_east + rest
            energy += slant if bound == 0 else slant // step
            level = _level(energy)
            pattern = _pattern(predicted8, w, n, nw, ne, ww, nn, level)
            position = np.uint64(pattern)
            corrected = predicted8 + ((bias[position] * _SHARE[np.uint64(seen[position])]) >> 32)
            prediction = min(high, max(low, (corrected + 4) >> 3))
            # The fraction between two whole numbers gives the sign of the error.
            lean = (corrected + 4) & 7
            error = np.int64(0)
            if not decoding:
                gap = np.int64(x[i, j]) - prediction
                error = gap
                if bound > 0:
                    error = (gap + bound) // step if gap >= 0 else -((bound - gap) // step)
            fine = min(31, _fine(energy))
            first = fine * 8 + _level7(abs(w - n))
            second = _SPAN + (_level7(4 * west) * 8 + _level7(4 * up)) * 8 + _level7(4 * up_east)
            third = 2 * _SPAN + pattern
            fourth = 3 * _SPAN + level * 64 + _level7(abs(n - ne)) * 8 + _level7(abs(w - nw))
            error = _code_error(
                c, data, error, first, second, third, fourth, slots, weights, level, fine, lean,
                np.int64(errors[p - _1]), np.int64(errors_n[p]),
            )  # fmt: skip
            value = min(high, max(low, prediction + error * step))
            here[p] = value
            errors[p] = error
            x[i, j] = value
            bias[position] += (value << 3) - predicted8
            seen[position] += 1
            if seen[position] >= 64:
                seen[position] >>= 1
                bias[position] >>= 1
            for k in range(PREDICTORS):
                miss[p, np.uint64(k)] = abs(guess[k] - value)
        for k in range(_RIGHT):
            here[width + _LEFT + k] = here[width + _LEFT - 1]
            errors[width + _LEFT + k] = 0
            for g in range(PREDICTORS):
                miss[width + _LEFT + k, g] = miss[width + _LEFT - 1, g]


@forced
def _blended8(guess: Int64, miss: Int32, miss_n: Int32, p: int) -> int:
    """Eight times the mean of the predictions, weighted by how little each missed nearby."""
    total, weights = np.int64(0), np.int64(0)
    for k in range(PREDICTORS):
        q = np.uint64(k)
        penalty = np.int64(
            2 * (miss[p - _1, q] + miss_n[p, q])
            + miss_n[p - _1, q]
            + miss_n[p + _1, q]
            + miss[p - _2, q]
        )
        weight = _weight(penalty)
        total += weight * guess[k]
        weights += weight
    # A quotient of floats, correctly rounded everywhere: whole numbers divide at half the speed.
    return np.int64(math.floor(8 * (np.float64(total) / np.float64(weights)) + 0.5))


@forced
def _weight(penalty: int) -> int:
    """Falls with the square of a predictor's error."""
    if penalty < 4096:
        return _WEIGHT[np.uint64(penalty)]
    if penalty >= 1 << 17:
        return np.int64(1)
    return (np.int64(1) << 36) // ((penalty + 1) * (penalty + 1) + 1) + 1


@forced
def _level(energy: int) -> int:
    """Number of bits of the errors around, 0 to 15."""
    if energy < 4096:
        return _LEVEL[np.uint64(energy)]
    return min(15, 12 + _LEVEL[np.uint64(min(4095, energy >> 12))])


@forced
def _level7(energy: int) -> int:
    """The same, at most 7."""
    return _LEVEL[np.uint64(min(127, energy))]


@forced
def _fine(energy: int) -> int:
    """Logarithm in halves, 0 to 31."""
    level = _level(energy)
    if level < 2:
        return 2 * level
    return 2 * level + ((energy >> (level - 2)) & 1)


@forced
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


@forced
def _code_error(
    c: Int64, data: UInt8, error: int, first: int, second: int, third: int, fourth: int,
    slots: NDArray[np.uint32], weights: Int32, level: int, fine: int, lean: int, west: int,
    north: int,
) -> int:  # fmt: skip
    """Number of bits of the magnitude in unary, the sign, then the bits from the top."""
    magnitude = abs(error)
    length = 0
    while (magnitude >> length) != 0:
        length += 1
    length = code_unary(
        c, data, length, 0, 17, slots, first, second, third, fourth, 2048, weights, level, 16,
        _LIMIT,
    )  # fmt: skip
    if length == 0:
        return 0
    signs = (1 + (west > 0) - (west < 0)) * 3 + 1 + (north > 0) - (north < 0)
    position = _SIGN + (lean * 8 + min(7, length)) * 9 + signs
    negative = code_alone(c, data, int(error < 0), slots, position)
    value = 1
    for k in range(length - 2, -1, -1):
        depth = length - 2 - k
        bit = (magnitude >> k) & 1
        shape = value & 3 if depth < 2 else 4 + min(3, depth - 2)
        position = _BITS + (length * 32 + fine) * 8 + shape
        value = 2 * value + code_alone(c, data, bit, slots, position)
    return -value if negative else value


def run(coder: Int64, data: UInt8, x: Int32, low: int, high: int, bound: int) -> None:
    """Code or decode samples, shape (height, width), in place: see `code_samples`."""
    slots, weights = new_slots(SLOTS), new_weights(SETS)
    code_samples(coder, data, x, low, high, bound, slots, weights)
