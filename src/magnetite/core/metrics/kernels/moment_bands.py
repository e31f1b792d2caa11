"""The hot loop of window moments: one pass over tiles, for weights of any length."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.compute.bands import bands
from magnetite.core.compute.jit import compiled
from magnetite.core.compute.threads import spread

#: Output rows and columns worked on at a time: their filtered rows stay in the second cache.
_ROWS, _TILE = 32, 256


def moments(x: Float64, y: Float64, weights: Float64, offset: float) -> Float64:
    """Means (with `offset` added), variances and covariance; shape (5, rows, columns).

    Parameters
    ----------
    x, y : float64 arrays of the same shape (h, w), less a common offset
    weights : float64 array, shape (n,)
        Of unit sum; any length up to the shorter side.
    """
    rows, columns = (side - weights.size + 1 for side in x.shape)
    out = np.empty((5, rows, columns))

    def work(part: slice) -> None:
        _band(x, y, weights, offset, part.start, part.stop, out)

    spread(work, bands(rows, _ROWS))
    return out


_compiled = compiled(fastmath={"contract", "nsz"})


@_compiled
def _band(
    x: Float64, y: Float64, weights: Float64, offset: float, first: int, last: int, out: Float64
) -> None:
    """Moments of the output rows from `first` to `last`."""
    rows, columns, taps = last - first, out.shape[2], weights.size
    # Rows of a tile after the filter along them: x, y, x², y², x y.
    f = np.empty((5, rows + taps - 1, _TILE))
    product = np.empty(_TILE + taps - 1)
    m = np.empty((5, _TILE))
    for left in range(0, columns, _TILE):
        n = min(_TILE, columns - left)
        for i in range(rows + taps - 1):
            u = x[first + i, left : left + n + taps - 1]
            v = y[first + i, left : left + n + taps - 1]
            _along(f[0, i, :n], u, weights)
            _along(f[1, i, :n], v, weights)
            _multiply(product, u, u)
            _along(f[2, i, :n], product, weights)
            _multiply(product, v, v)
            _along(f[3, i, :n], product, weights)
            _multiply(product, u, v)
            _along(f[4, i, :n], product, weights)
        for i in range(rows):
            for k in range(5):
                _down(m[k, :n], f[k, i : i + taps], weights)
            _store(m, offset, out, first + i, left, n)


@_compiled
def _store(m: Float64, offset: float, out: Float64, i: int, left: int, n: int) -> None:
    """Moments of a row of windows from its weighted means."""
    mean_x, mean_y, squares_x, squares_y, mixed = m[0], m[1], m[2], m[3], m[4]
    to_x, to_y = out[0, i, left : left + n], out[1, i, left : left + n]
    var_x, var_y = out[2, i, left : left + n], out[3, i, left : left + n]
    both = out[4, i, left : left + n]
    for j in range(n):
        mx, my = mean_x[j], mean_y[j]
        to_x[j] = mx + offset
        to_y[j] = my + offset
        var_x[j] = max(0.0, squares_x[j] - mx * mx)
        var_y[j] = max(0.0, squares_y[j] - my * my)
        both[j] = mixed[j] - mx * my


@_compiled
def _along(out: Float64, f: Float64, weights: Float64) -> None:
    """Weighted sums of neighbours along a row, four at a time."""
    odd = weights.size % 4
    for j in range(out.size):
        out[j] = 0.0
    for t in range(odd):
        w0, g = weights[t], f[t:]
        for j in range(out.size):
            out[j] += w0 * g[j]
    for t in range(odd, weights.size, 4):
        w0, w1, w2, w3 = weights[t], weights[t + 1], weights[t + 2], weights[t + 3]
        g = f[t:]
        for j in range(out.size):
            out[j] += (w0 * g[j] + w1 * g[j + 1]) + (w2 * g[j + 2] + w3 * g[j + 3])


@_compiled
def _down(out: Float64, f: Float64, weights: Float64) -> None:
    """Weighted sums of neighbours down the columns, four at a time."""
    odd = weights.size % 4
    for j in range(out.size):
        out[j] = 0.0
    for t in range(odd):
        w0, g0 = weights[t], f[t]
        for j in range(out.size):
            out[j] += w0 * g0[j]
    for t in range(odd, weights.size, 4):
        w0, w1, w2, w3 = weights[t], weights[t + 1], weights[t + 2], weights[t + 3]
        g0, g1, g2, g3 = f[t], f[t + 1], f[t + 2], f[t + 3]
        for j in range(out.size):
            out[j] += (w0 * g0[j] + w1 * g1[j]) + (w2 * g2[j] + w3 * g3[j])


@_compiled
def _multiply(out: Float64, one: Float64, two: Float64) -> None:
    for j in range(one.size):
        out[j] = one[j] * two[j]
