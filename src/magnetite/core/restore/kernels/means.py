"""The hot loop of non-local means: one band of rows, shift after shift.

Positions are unsigned, so that many can be worked on at a time.
"""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float32
from magnetite.core.compute.jit import compiled

#: A number as these loops take it.
Single = float | np.float32

_compiled = compiled(fastmath=True)
#: Functions that a band's loop calls are compiled into it: apart they would be optimised once more
#: in a process that compiles it, with other roundings than in one that loads the band's loop.
_inlined = compiled(fastmath=True, forceinline=True)

#: exp(-x) is (1 - y + y²/2)^256 with y = x / 256: within 0.03 % of it up to 5, and no call.
_SPLIT = np.float32(1 / 256)
_LARGEST = np.float32(30)


@_compiled
def means_band(
    padded: Float32, width: int, first: int, radius: int, near: Float32, offset: Single,
    scale: Single, total: Float32, weight: Float32,
) -> None:  # fmt: skip
    """Weighted sums of the samples around, and of the weights, for a band of rows.

    A shift and its opposite have the same weights: they are computed once for both.

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
        Factors of the weights of each shift, down and across; the same for the
        opposite one.
    offset, scale : float
        Weights are exp(-max(0, d - offset) scale), d the sum of squared differences of patches.
    total : float32 array, shape (channels, rows, w)
        The sums are added.
    weight : float32 array, shape (rows, w)
        The weights are added.
    """
    reach, channels, rows = near.shape[0] // 2, total.shape[0], total.shape[1]
    margin, stride, side = radius + reach, padded.shape[2], 2 * radius + 1
    plane, flat = padded.shape[1] * stride, padded.reshape(-1)
    sums, weights = total.reshape(-1), weight.reshape(-1)
    wide, space = np.uint64(width), width + reach + 2 * radius
    columns, patches = np.empty(space, np.float32), np.empty(space, np.float32)
    shares = np.full(space, near[reach, reach], np.float32)
    for y in range(rows):
        source = (first + y + margin) * stride + margin
        _give(
            shares, 0, flat, source, plane, weights, sums, y * width, rows * width, channels, wide
        )
    for down in range(reach + 1):
        for across in range(-reach, reach + 1):
            if down == 0 and across <= 0:
                continue
            shift, factor = down * stride + across, near[reach + down, reach + across]
            # Pairs whose left or right one lies outside the picture are needed for the other.
            left, count = min(0, -across), np.uint64(width + abs(across))
            span = count + np.uint64(side - 1)
            columns[:] = 0
            for y in range(-2 * radius - down, rows):
                # The row below the window of row y enters the column sums, the one above leaves.
                for c in range(channels):
                    start = c * plane + (first + y + reach + 2 * radius) * stride + reach + left
                    one, two = np.uint64(start), np.uint64(start + shift)
                    if y > -down:
                        _move(flat, one, two, np.uint64(side * stride), columns, span)
                    else:
                        _enter(flat, one, two, columns, span)
                if y < -down:
                    continue
                _sum_along(columns, patches, np.uint64(side), count)
                _shares(patches, shares, offset, scale, factor, count)
                source = (first + y + margin) * stride + margin
                if y >= 0:
                    _give(shares, -left, flat, source + shift, plane, weights, sums, y * width,
                          rows * width, channels, wide)  # fmt: skip
                if y + down < rows:
                    _give(shares, -across - left, flat, source - across, plane, weights, sums,
                          (y + down) * width, rows * width, channels, wide)  # fmt: skip


@_inlined
def _give(shares, begin, flat, source, plane, weights, sums, at, size, channels, count):  # type: ignore[no-untyped-def]
    """Add samples from a position on, times their shares, to a row of a band, and the shares."""
    begin, source, at = np.uint64(begin), np.uint64(source), np.uint64(at)
    _add_both(shares, begin, weights, flat, source, sums, at, count)
    for c in range(1, channels):
        _add_times(shares, begin, flat, source + np.uint64(c * plane), sums,
                   at + np.uint64(c * size), count)  # fmt: skip


@_inlined
def _enter(flat, one, two, columns, count):  # type: ignore[no-untyped-def]
    for x in range(count):
        difference = flat[one + x] - flat[two + x]
        columns[x] += difference * difference


@_inlined
def _move(flat, one, two, height, columns, count):  # type: ignore[no-untyped-def]
    """A row of squared differences enters the sums, the one a window's height above leaves."""
    one_above, two_above = one - height, two - height
    for x in range(count):
        coming = flat[one + x] - flat[two + x]
        going = flat[one_above + x] - flat[two_above + x]
        columns[x] += coming * coming - going * going


@_inlined
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


@_inlined
def _shares(patches, shares, offset, scale, factor, count):  # type: ignore[no-untyped-def]
    one, half, factor_of = np.float32(1), np.float32(0.5), np.float32(scale) * _SPLIT
    largest = _LARGEST * _SPLIT
    for x in range(count):
        excess = min(max(patches[x] - offset, np.float32(0)) * factor_of, largest)
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


@_inlined
def _add_both(shares, begin, weights, flat, source, sums, at, count):  # type: ignore[no-untyped-def]
    for x in range(count):
        share = shares[begin + x]
        weights[at + x] += share
        sums[at + x] += share * flat[source + x]


@_inlined
def _add_times(shares, begin, flat, at, sums, to, count):  # type: ignore[no-untyped-def]
    for x in range(count):
        sums[to + x] += shares[begin + x] * flat[at + x]
