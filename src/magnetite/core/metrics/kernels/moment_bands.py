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
        _band(x, y, weights, offset, part.start, out[:, part])

    spread(work, bands(rows, _ROWS))
    return out


_compiled = compiled(fastmath={"contract", "nsz"})


@_compiled
def _band(
    x: Float64, y: Float64, weights: Float64, offset: float, first: int, out: Float64
) -> None:
    """Moments of the output rows from `first` on."""
    rows, columns, taps = out.shape[1], out.shape[2], weights.size
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
            for k, one, two in ((2, u, u), (3, v, v), (4, u, v)):
                for j in range(one.size):
                    product[j] = one[j] * two[j]
                _along(f[k, i, :n], product, weights)
        for i in range(rows):
            for k in range(5):
                _down(m[k, :n], f[k, i : i + taps], weights)
            for j in range(n):
                mx, my = m[0, j], m[1, j]
                out[0, i, left + j] = mx + offset
                out[1, i, left + j] = my + offset
                out[2, i, left + j] = max(0.0, m[2, j] - mx * mx)
                out[3, i, left + j] = max(0.0, m[3, j] - my * my)
                out[4, i, left + j] = m[4, j] - mx * my


@_compiled
def _along(out: Float64, f: Float64, weights: Float64) -> None:
    """Weighted sums of neighbours along a row."""
    out[:] = 0.0
    for t in range(weights.size):
        w, g = weights[t], f[t : t + out.size]
        for j in range(out.size):
            out[j] += w * g[j]


@_compiled
def _down(out: Float64, f: Float64, weights: Float64) -> None:
    """Weighted sums of neighbours down the columns."""
    out[:] = 0.0
    for t in range(weights.size):
        w, g = weights[t], f[t]
        for j in range(out.size):
            out[j] += w * g[j]
