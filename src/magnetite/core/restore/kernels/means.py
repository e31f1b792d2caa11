"""The hot loop of non-local means: one band of rows, shift after shift.

Places are unsigned, so that many can be worked on at a time.
"""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float32
from magnetite.core.compute.jit import compiled

#: A number as these loops take it.
Single = float | np.float32

_compiled = compiled(fastmath=True)

#: exp(-x) is (1 - y + y²/2)^256 with y = x / 256: within 0.03 % of it up to 5, and no call.
_SPLIT = np.float32(1 / 256)
_LARGEST = np.float32(30)


@_compiled
def means_band(
    padded: Float32, width: int, first: int, radius: int, near: Float32, offset: Single,
    scale: Single, total: Float32, weight: Float32,
) -> None:  # fmt: skip
    """Weighted sums of the samples around, and of the weights, for a band of rows.

    Parameters
    ----------
    padded : float32 array, shape (channels, h + 2 (radius + reach), …)
        The planes with a margin of radius + reach on all sides; see `near`.
    width : int
        Of the planes without margins.
    first : int
        First row of the band, counted without margins.
    radius : int
        Patches have a side of 2 radius + 1.
    near : float32 array, shape (2 reach + 1, 2 reach + 1)
        What the weights of each shift, down and across, are multiplied by.
    offset, scale : float
        Weights are exp(-max(0, d - offset) scale), d the sum of squared differences of patches.
    total : float32 array, shape (channels, rows, w)
        The sums are added.
    weight : float32 array, shape (rows, w)
        The weights are added.
    """
    channels, rows, reach = total.shape[0], total.shape[1], near.shape[0] // 2
    stride, margin, side = padded.shape[2], radius + reach, 2 * radius + 1
    plane = padded.shape[1] * stride
    flat, sums, weights = padded.reshape(-1), total.reshape(-1), weight.reshape(-1)
    wide, span = np.uint64(width), np.uint64(width + 2 * radius)
    columns = np.empty(width + 2 * radius, np.float32)
    patches, shares = np.empty(width, np.float32), np.empty(width, np.float32)
    for down in range(-reach, reach + 1):
        for across in range(-reach, reach + 1):
            shift, factor = down * stride + across, near[down + reach, across + reach]
            columns[:] = 0
            for y in range(-2 * radius, rows):
                # Row y + 2 radius of the band enters the column sums, row y - 1 leaves them.
                for c in range(channels):
                    start = c * plane + (first + y + reach + 2 * radius) * stride + reach
                    _enter(flat, np.uint64(start), np.uint64(start + shift), columns, span)
                    if y > 0:
                        start -= side * stride
                        _leave(flat, np.uint64(start), np.uint64(start + shift), columns, span)
                if y < 0:
                    continue
                _sum_along(columns, patches, np.uint64(side), wide)
                _shares(patches, shares, offset, scale, factor, wide)
                _add(shares, weights, np.uint64(y) * wide, wide)
                for c in range(channels):
                    at = c * plane + (first + y + margin) * stride + margin + shift
                    _add_times(shares, flat, np.uint64(at), sums,
                               np.uint64(c * rows + y) * wide, wide)  # fmt: skip


@_compiled
def _enter(flat, one, two, columns, count):  # type: ignore[no-untyped-def]
    for x in range(count):
        difference = flat[one + x] - flat[two + x]
        columns[x] += difference * difference


@_compiled
def _leave(flat, one, two, columns, count):  # type: ignore[no-untyped-def]
    for x in range(count):
        difference = flat[one + x] - flat[two + x]
        columns[x] -= difference * difference


@_compiled
def _sum_along(columns, patches, side, count):  # type: ignore[no-untyped-def]
    if side == np.uint64(7):
        c1, c2, c3 = np.uint64(1), np.uint64(2), np.uint64(3)
        c4, c5, c6 = np.uint64(4), np.uint64(5), np.uint64(6)
        for x in range(count):
            patches[x] = ((columns[x] + columns[x + c1]) + (columns[x + c2] + columns[x + c3])) + (
                (columns[x + c4] + columns[x + c5]) + columns[x + c6]
            )
        return
    patches[:] = 0
    for k in range(side):
        for x in range(count):
            patches[x] += columns[x + k]


@_compiled
def _shares(patches, shares, offset, scale, factor, count):  # type: ignore[no-untyped-def]
    one, half = np.float32(1), np.float32(0.5)
    for x in range(count):
        excess = min(max(patches[x] - offset, np.float32(0)) * scale, _LARGEST) * _SPLIT
        power = one - excess + half * excess * excess
        power *= power
        power *= power
        power *= power
        power *= power
        power *= power
        power *= power
        power *= power
        power *= power
        shares[x] = factor * power


@_compiled
def _add(shares, weights, at, count):  # type: ignore[no-untyped-def]
    for x in range(count):
        weights[at + x] += shares[x]


@_compiled
def _add_times(shares, flat, at, sums, to, count):  # type: ignore[no-untyped-def]
    for x in range(count):
        sums[to + x] += shares[x] * flat[at + x]
