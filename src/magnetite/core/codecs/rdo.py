"""Rate-distortion-optimised quantization: numbers are lowered where it pays."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]
Numbers = NDArray[np.int32]

#: What a bit is worth, in squared steps: at high rates 2 ln 2 / 12 = 0.116 is exact.
BIT = 0.1
#: Classes of what is around a number, of frequencies, and numbers that are told apart.
_CLASSES, _FREQUENCIES, _TOLD = 12, 64, 16
#: Numbers above this share of a step count as 1 in what is around.
_AROUND = 0.65


def quantize(scaled: Array, bit: float = BIT) -> Numbers:
    """Whole numbers for coefficients in units of the step, shape (rows, columns, h, w).

    Each may become its nearest whole number, the one below, or (from 2) 0: what has the least
    squared error plus `bit` times its bits. Bits are told from how often each number occurs
    at like frequencies in like surroundings, of the picture itself. The lowest frequency of
    each block is rounded.

    Source: after Karczewicz, Ye and Chong, ITU-T VCEG-AH21, 2008.
    """
    size = np.abs(scaled)
    context = _context(np.floor(size + (1 - _AROUND)))
    nearest = np.floor(size + np.float32(0.5))
    bits = _bits(context, nearest)
    best = nearest
    least = (size - nearest) ** 2 + bit * _cost(bits, context, nearest)
    for other in (np.maximum(nearest - 1, 0), np.where(nearest == 2, 0, nearest)):
        cost = (size - other) ** 2 + bit * _cost(bits, context, other)
        best = np.where(cost < least, other, best)
        least = np.minimum(cost, least)
    best[..., 0, 0] = nearest[..., 0, 0]
    return np.asarray(np.copysign(best, scaled), np.int32)


def _context(magnitudes: Array) -> NDArray[np.intp]:
    """Class of the numbers around, and of the frequency, of every coefficient."""
    m = np.minimum(magnitudes, 20)
    around = np.zeros_like(m)
    for axis in range(4):
        ahead = [slice(None)] * 4
        behind = [slice(None)] * 4
        ahead[axis], behind[axis] = slice(1, None), slice(None, -1)
        around[tuple(ahead)] += 2 * m[tuple(behind)]
        around[tuple(behind)] += (2 if axis < 2 else 1) * m[tuple(ahead)]
    classes = np.array([0, 1, 2, 3, *(2 + int(2 * np.log2(n)) for n in range(4, 400))])
    kind = np.minimum(classes, _CLASSES - 1)[around.astype(np.intp)]
    height, width = m.shape[2:]
    row, column = np.indices((height, width))
    frequency = (8 * row // height) * 8 + 8 * column // width
    return np.asarray(kind * _FREQUENCIES + frequency, np.intp)


def _bits(context: NDArray[np.intp], numbers: Array) -> Array:
    """Bits of each number up to 15 in each context, the sign's included."""
    told = np.minimum(numbers, _TOLD - 1).astype(np.intp)
    counts = np.bincount(
        (context * _TOLD + told).ravel(), minlength=_CLASSES * _FREQUENCIES * _TOLD
    ).reshape(_CLASSES, _FREQUENCIES, _TOLD)
    # What is rare at one frequency is told from all of them.
    pooled = counts.sum(axis=1, keepdims=True) + 1e-9
    shares = counts + 8 * pooled / pooled.sum(axis=2, keepdims=True) + 1e-3
    bits = -np.log2(shares / shares.sum(axis=2, keepdims=True))
    bits[..., 1:] += 1
    return np.asarray(bits.reshape(-1, _TOLD), np.float32)


def _cost(bits: Array, context: NDArray[np.intp], numbers: Array) -> Array:
    return np.asarray(bits[context, np.minimum(numbers, _TOLD - 1).astype(np.intp)])
