"""Rate-distortion-optimised quantization: numbers are lowered where it pays."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Float32, Int32, Int64, UInt8
from magnetite.core.codecs.entropy.coder import compiled, forced
from magnetite.core.compute.threads import spread

Context = NDArray[np.int16]

#: Value of a bit, in squared steps: at high rates 2 ln 2 / 12 = 0.116 is exact.
BIT = 0.1
#: Classes of neighbourhoods, of frequencies, and numbers that are distinguished.
_CLASSES, _FREQUENCIES, _TOLD = 12, 64, 16

#: Numbers that are worth a second thread.
_WORTH_SPREADING = 2**17
#: Magnitudes above this share of a step count as 1 in the neighbourhood; above 20 as 20.
_AROUND, _MOST = np.float32(0.65), np.float32(20)
#: Class of the sum over the neighbourhood: exact up to 3, then two to each doubling.
_CLASS = np.array(
    [0, 1, 2, 3, *(min(11, 2 + int(2 * np.log2(n))) for n in range(4, 400))], np.int16
)


def quantize(scaled: Float32) -> Int32:
    """Whole numbers for coefficients in units of the step, shape (rows, columns, h, w).

    Each may become its nearest whole number, the one below, or (from 2) 0: the one with the least
    squared error plus `BIT` times its bits. Bits are estimated from how often each number occurs
    at like frequencies in like surroundings, of the picture itself. The lowest frequency of
    each block is rounded.

    Source: after Karczewicz, Ye and Chong, ITU-T VCEG-AH21, 2008.
    """
    return _chosen(np.ascontiguousarray(scaled), _FREQUENCIES, scaled.shape[2] * scaled.shape[3])


def quantize_band(scaled: Float32) -> Int32:
    """The same for a band of wavelets, shape (h, w), where all frequencies are alike."""
    band = np.ascontiguousarray(scaled)[np.newaxis, np.newaxis]
    return _chosen(band, 1, 0).reshape(scaled.shape)


def _chosen(scaled: Float32, frequencies: int, block: int) -> Int32:
    """The numbers of least cost; with `frequencies` 1 those of a block are all alike.

    The first of every `block` numbers is rounded, unless that is 0.
    """
    context, bits = _contexts(scaled, frequencies)
    out = np.empty(scaled.shape, np.int32)
    s, c, o = (array.reshape(-1) for array in (scaled, context, out))
    _in_halves(lambda a, b, _: _choose_part(s, c, bits, block, a, b, o), s.size, s.size)
    return out


def _contexts(scaled: Float32, frequencies: int) -> tuple[Context, Float32]:
    """Class of each coefficient's neighbourhood, and the bits of each number in each context.

    Contexts are the class times 64, plus one of 64 classes of frequencies. The numbers are rounded,
    and counted up to 15.
    """
    rows, _, height, width = scaled.shape
    sizes = np.zeros(scaled.size + 2, np.uint8)  # with a margin: no position outside is asked for
    out = np.empty(scaled.shape, np.int16)
    counts = np.zeros((2, _CLASSES * _FREQUENCIES * _TOLD), np.int64)
    classes = (
        8 * np.arange(height) // height if frequencies > 1 else np.zeros(height, int),
        8 * np.arange(width) // width if frequencies > 1 else np.zeros(width, int),
    )
    flat, contexts = scaled.reshape(-1), out.reshape(-1)
    _in_halves(lambda a, b, _: _sizes_part(flat, a, b, sizes), flat.size, flat.size)
    later = 1 if frequencies > 1 else 2
    _in_halves(
        lambda a, b, half: _contexts_part(
            flat, scaled.shape[:2], a, b, sizes, *classes, later, contexts, counts[half]
        ),
        rows * height, flat.size,
    )  # fmt: skip
    return out, _bits(counts.sum(axis=0))


def _bits(counts: Int64) -> Float32:
    """Bits of each number up to 15 in each context, the sign's included, in the order of counts."""
    table = counts.reshape(_CLASSES, _FREQUENCIES, _TOLD)
    # Bits of numbers that are rare at one frequency are estimated from all frequencies.
    pooled = table.sum(axis=1, keepdims=True) + 1e-9
    shares = table + 8 * pooled / pooled.sum(axis=2, keepdims=True) + 1e-3
    bits = -np.log2(shares / shares.sum(axis=2, keepdims=True))
    bits[..., 1:] += 1
    return np.asarray(bits.reshape(-1), np.float32)


def _in_halves(work: Callable[[int, int, int], None], count: int, numbers: int) -> None:
    """Work on positions 0 to `count` - 1, on two threads where there are many numbers."""
    if numbers < _WORTH_SPREADING:
        work(0, count, 0)
        return
    middle = (count + 1) // 2
    spread(lambda ends: work(*ends), [(0, middle, 0), (middle, count, 1)])


@compiled
def _sizes_part(s: Float32, first: int, last: int, out: UInt8) -> None:
    for p in range(first, last):
        out[p + 1] = np.uint8(min(_MOST, abs(s[p]) + (np.float32(1) - _AROUND)))


@compiled
def _contexts_part(
    values: Float32, grid: tuple[int, int], first: int, last: int, sizes: UInt8,
    down: Int64, across: Int64, later: int, out: Context, counts: Int64,
) -> None:  # fmt: skip
    """Of lines `first` to `last`, each a row of all blocks side by side.

    Twice the same position of the neighbouring blocks and the next lower frequencies, `later` times
    the next higher ones.
    """
    rows, columns = grid
    height, width = down.size, across.size
    block = height * width
    for line in range(first, last):
        i, u = line // height, line % height
        north, south = 2 * int(i > 0), 2 * int(i + 1 < rows)
        over, under = 2 * int(u > 0), later * int(u + 1 < height)
        for j in range(columns):
            base = (i * columns + j) * block + u * width + 1
            west, east = 2 * int(j > 0), 2 * int(j + 1 < columns)
            n, z = base - min(north, 1) * columns * block, base + min(south, 1) * columns * block
            w, e = base - min(west, 1) * block, base + min(east, 1) * block
            o, d = base - min(over, 1) * width, base + min(under, 1) * width
            for v in range(width):
                total = north * _at(sizes, n + v) + south * _at(sizes, z + v)
                total += west * _at(sizes, w + v) + east * _at(sizes, e + v)
                total += over * _at(sizes, o + v) + under * _at(sizes, d + v)
                total += 2 * int(v > 0) * _at(sizes, base + v - 1)
                total += later * int(v + 1 < width) * _at(sizes, base + v + 1)
                position = np.uint64(base + v - 1)
                context = np.int64(_CLASS[np.uint64(total)]) * _FREQUENCIES
                context += down[np.uint64(u)] * 8 + across[np.uint64(v)]
                out[position] = context
                nearest = np.int64(
                    min(np.float32(_TOLD - 1), abs(values[position]) + np.float32(0.5))
                )
                counts[np.uint64(context * _TOLD + nearest)] += 1


@forced
def _at(sizes: UInt8, position: int) -> int:
    return np.int64(sizes[np.uint64(position)])


@compiled
def _choose_part(
    s: Float32, context: Context, bits: Float32, block: int, first: int, last: int,
    out: Int32,
) -> None:  # fmt: skip
    for position in range(first, last):
        p = np.uint64(position)
        size = abs(s[p])
        nearest = np.int64(size + np.float32(0.5))
        best = nearest
        if nearest > 0 and (block == 0 or position % block != 0):
            row = np.int64(context[p]) * _TOLD
            gap = size - nearest
            least = gap * gap + BIT * bits[np.uint64(row + min(nearest, _TOLD - 1))]
            gap += 1
            below = gap * gap + BIT * bits[np.uint64(row + min(nearest - 1, _TOLD - 1))]
            if below < least:
                best, least = nearest - 1, below
            if nearest == 2 and size * size + BIT * bits[np.uint64(row)] < least:
                best = 0
        out[p] = best if s[p] >= 0 else -best
