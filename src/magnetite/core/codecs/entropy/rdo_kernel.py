"""The hot loops of optimised quantization."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Float32, Int32
from magnetite.core.codecs.entropy.coder import compiled
from magnetite.core.codecs.layers.rdo import FREQUENCIES, TOLD
from magnetite.core.compute.threads import spread

Context = NDArray[np.int16]

#: Magnitudes above this share of a step count as 1 in what is around; above 20 as 20.
_AROUND, _MOST = np.float32(0.65), 20
#: Class of the sum of what is around: exact up to 3, then two to each doubling.
_CLASS = np.array(
    [0, 1, 2, 3, *(min(11, 2 + int(2 * np.log2(n))) for n in range(4, 400))], np.int16
)


def contexts(scaled: Float32) -> Context:
    """Class of what is around each coefficient, times 64, plus its frequency's class."""
    out = np.empty(scaled.shape, np.int16)
    _by_rows(lambda a, b: _contexts(scaled, a, b, out), scaled.shape[0])
    return out


def choose(scaled: Float32, context: Context, bits: Float32, bit: float, lowest: bool) -> Int32:
    """The number of least squared error plus `bit` times its bits, for each coefficient.

    `lowest` says whether the lowest frequency of a block is chosen too, instead of rounded.
    """
    out = np.empty(scaled.shape, np.int32)
    _by_rows(
        lambda a, b: _choose(scaled[a:b], context[a:b], bits, bit, lowest, out[a:b]),
        scaled.shape[0],
    )
    return out


def _by_rows(work: Any, rows: int) -> None:
    middle = (rows + 1) // 2
    spread(lambda ends: work(*ends), [(0, middle), (middle, rows)])


@compiled
def _around(x: np.float32) -> int:
    return min(_MOST, int(abs(x) + (np.float32(1) - _AROUND)))


@compiled
def _contexts(s: Float32, first: int, last: int, out: Context) -> None:
    rows, columns, height, width = s.shape
    for i in range(first, last):
        for j in range(columns):
            for u in range(height):
                for v in range(width):
                    total = 0
                    if i > 0:
                        total += 2 * _around(s[i - 1, j, u, v])
                    if i + 1 < rows:
                        total += 2 * _around(s[i + 1, j, u, v])
                    if j > 0:
                        total += 2 * _around(s[i, j - 1, u, v])
                    if j + 1 < columns:
                        total += 2 * _around(s[i, j + 1, u, v])
                    if u > 0:
                        total += 2 * _around(s[i, j, u - 1, v])
                    if u + 1 < height:
                        total += _around(s[i, j, u + 1, v])
                    if v > 0:
                        total += 2 * _around(s[i, j, u, v - 1])
                    if v + 1 < width:
                        total += _around(s[i, j, u, v + 1])
                    frequency = (8 * u // height) * 8 + 8 * v // width
                    out[i, j, u, v] = _CLASS[total] * FREQUENCIES + frequency


@compiled
def _choose(
    s: Float32, context: Context, bits: Float32, bit: float, lowest: bool, out: Int32
) -> None:
    rows, columns, height, width = s.shape
    for i in range(rows):
        for j in range(columns):
            for u in range(height):
                for v in range(width):
                    size = abs(s[i, j, u, v])
                    nearest = int(size + np.float32(0.5))
                    best = nearest
                    if nearest > 0 and (lowest or u + v > 0):
                        row = bits[context[i, j, u, v]]
                        least = (size - nearest) ** 2 + bit * row[min(nearest, TOLD - 1)]
                        below = (size - nearest + 1) ** 2 + bit * row[min(nearest - 1, TOLD - 1)]
                        if below < least:
                            best, least = nearest - 1, below
                        if nearest == 2 and size * size + bit * row[0] < least:
                            best = 0
                    out[i, j, u, v] = best if s[i, j, u, v] >= 0 else -best
