"""The hot loop of SSIM: one pass over tiles, nothing of the picture's size in between."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.compute.bands import bands
from magnetite.core.compute.jit import compiled
from magnetite.core.compute.threads import spread
from magnetite.core.methods.sums import Totals

#: The window that is unrolled here: 11 taps, symmetric.
TAPS = 11
#: Output rows and columns worked on at a time: their filtered rows stay in the second cache.
_ROWS, _TILE = 32, 256
_HALF = TAPS - 1


def summed_similarity(x: Float64, y: Float64, weights: Float64, c1: float, c2: float) -> Totals:
    """SSIM summed over all 11x11 windows, and their number.

    Equation 13 of Wang, Bovik, Sheikh and Simoncelli (2004) is the quotient.

    In float64; sums are reordered, so the result is within about 1e-12 of the definition.

    Parameters
    ----------
    x, y : float arrays, shape (h, w), h and w at least 11
    weights : float64 array, shape (11,)
        Symmetric, of unit sum.
    c1, c2 : float
        Stabilising constants, in the square of the arrays' unit.
    """
    height, width = int(x.shape[0]) - _HALF, int(x.shape[1]) - _HALF
    half = weights[: TAPS // 2 + 1]
    # Bands of a fixed height: the order of the sum does not depend on the number of threads.
    sums = spread(
        lambda rows: _band(x, y, rows.start, rows.stop, half, c1, c2), bands(height, _BAND)
    )
    return float(sum(sums)), height * width


#: Rows of windows that are summed up at a time.
_BAND = 256

_compiled = compiled(fastmath={"contract", "nsz", "reassoc"})


@_compiled
def _band(
    x: Float64, y: Float64, first: int, last: int,
    weights: Float64, c1: float, c2: float,
) -> float:  # fmt: skip
    """Sum of the similarity over output rows first to last - 1."""
    width = x.shape[1] - _HALF
    squares, products = np.empty(_TILE + _HALF), np.empty(_TILE + _HALF)
    # Rows of a tile after the filter along them: x, y, x² + y², x y.
    fx, fy = np.empty((_ROWS + _HALF) * _TILE), np.empty((_ROWS + _HALF) * _TILE)
    fs, fp = np.empty((_ROWS + _HALF) * _TILE), np.empty((_ROWS + _HALF) * _TILE)
    total = 0.0
    for left in range(0, width, _TILE):
        n = min(_TILE, width - left)
        for start in range(first, last, _ROWS):
            begin = 0
            if start > first:  # the last rows of the block before are the first of this one
                begin = _HALF
                for f in (fx, fy, fs, fp):
                    f[: _HALF * _TILE] = f[_ROWS * _TILE :]
            rows = min(_ROWS, last - start)
            for i in range(begin, rows + _HALF):
                u = x[start + i, left : left + n + _HALF]
                v = y[start + i, left : left + n + _HALF]
                for j in range(n + _HALF):
                    squares[j] = u[j] * u[j] + v[j] * v[j]
                    products[j] = u[j] * v[j]
                line = i * _TILE
                _along(fx[line : line + n], u, weights)
                _along(fy[line : line + n], v, weights)
                _along(fs[line : line + n], squares, weights)
                _along(fp[line : line + n], products, weights)
            for i in range(rows):
                line = i * _TILE
                total += _line(fx[line:], fy[line:], fs[line:], fp[line:], weights, n, c1, c2)
    return total


@_compiled
def _along(out: Float64, f: Float64, w: Float64) -> None:
    """Weighted sums of 11 neighbours."""
    w0, w1, w2, w3, w4, w5 = w[0], w[1], w[2], w[3], w[4], w[5]
    for j in range(out.size):
        out[j] = (
            w0 * (f[j] + f[j + 10]) + w1 * (f[j + 1] + f[j + 9]) + w2 * (f[j + 2] + f[j + 8])
            + w3 * (f[j + 3] + f[j + 7]) + w4 * (f[j + 4] + f[j + 6]) + w5 * f[j + 5]
        )  # fmt: skip


@_compiled
def _line(
    fx: Float64, fy: Float64, fs: Float64,
    fp: Float64, w: Float64, n: int, c1: float, c2: float,
) -> float:  # fmt: skip
    """Sum of the similarity along one row of a tile."""
    total = 0.0
    for j in range(n):
        mx, my = _down(fx, j, w), _down(fy, j, w)
        squares, product = mx * mx + my * my, mx * my
        above = (2 * product + c1) * (2 * (_down(fp, j, w) - product) + c2)
        total += above / ((squares + c1) * (_down(fs, j, w) - squares + c2))
    return total


@compiled(inline="always")
def _down(f: Float64, j: int, w: Float64) -> np.float64:
    """Weighted sum down 11 rows of a tile."""
    mean: np.float64 = (
        w[0] * (f[j] + f[j + 10 * _TILE])
        + w[1] * (f[j + _TILE] + f[j + 9 * _TILE])
        + w[2] * (f[j + 2 * _TILE] + f[j + 8 * _TILE])
        + w[3] * (f[j + 3 * _TILE] + f[j + 7 * _TILE])
        + w[4] * (f[j + 4 * _TILE] + f[j + 6 * _TILE])
        + w[5] * f[j + 5 * _TILE]
    )
    return mean
