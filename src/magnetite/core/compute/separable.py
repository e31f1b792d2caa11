"""The hot loop of separable filters: tiles, so that filtered rows stay in the cache."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float64, Indices, Pixels
from magnetite.core.compute.bands import on_bands
from magnetite.core.compute.jit import compiled, readable

#: Columns worked on at a time, and rows of a piece of work.
_TILE, _ROWS = 256, 256

_compiled = compiled(fastmath={"contract", "nsz", "reassoc"})


def filtered(plane: Pixels, line: Float64, rows: Indices, columns: Indices) -> Pixels:
    """Weighted sums along rows and columns with one symmetric line of odd length.

    Parameters
    ----------
    plane : float array, shape (h, w)
        Sums are taken in its precision.
    line : float64 array, shape (2 reach + 1,)
    rows, columns : int array, shape (m + 2 reach,), (n + 2 reach,)
        Which row or column stands at each position from `-reach` on; -1 for black.

    Returns
    -------
    float array, shape (m, n), the dtype of `plane`.
    """
    margin = line.size - 1
    out = np.empty((rows.size - margin, columns.size - margin), plane.dtype)
    source, half = readable(plane), line[: line.size // 2 + 1].astype(plane.dtype)

    def work(part: slice) -> None:
        around = rows[part.start : part.stop + line.size - 1]
        _band(source, half, around, columns, out[part])

    on_bands(work, out, _ROWS)
    return out


@_compiled
def _band(plane: Pixels, half: Pixels, rows: Indices, columns: Indices, out: Pixels) -> None:
    """Rows of the result, from those of the plane around them."""
    reach, width = half.size - 1, out.shape[1]
    line = np.empty(_TILE + 2 * reach, plane.dtype)
    tile = np.empty((rows.size, _TILE), plane.dtype)
    for left in range(0, width, _TILE):
        n = min(_TILE, width - left)
        begin, span = columns[left], n + 2 * reach
        inside = begin >= 0 and columns[left + span - 1] - begin == span - 1
        for i in range(rows.size):
            if rows[i] < 0:
                tile[i, :n] = 0
            elif inside:
                _along(tile[i, :n], plane[rows[i], begin : begin + span], half)
            else:
                for j in range(span):
                    column = columns[left + j]
                    line[j] = plane[rows[i], column] if column >= 0 else 0
                _along(tile[i, :n], line, half)
        for i in range(out.shape[0]):
            _down(out[i, left : left + n], tile[i:], half)


@_compiled
def _along(out: Pixels, f: Pixels, half: Pixels) -> None:
    """Weighted sums of neighbours along a row."""
    reach = half.size - 1
    middle = f[reach:]
    for j in range(out.size):
        out[j] = half[reach] * middle[j]
    for t in range(reach):
        w, left, right = half[t], f[t:], f[2 * reach - t :]
        for j in range(out.size):
            out[j] += w * (left[j] + right[j])


@_compiled
def _down(out: Pixels, f: Pixels, half: Pixels) -> None:
    """Weighted sums down the columns of a tile."""
    reach = half.size - 1
    middle = f[reach]
    for j in range(out.size):
        out[j] = half[reach] * middle[j]
    for t in range(reach):
        w, above, below = half[t], f[t], f[2 * reach - t]
        for j in range(out.size):
            out[j] += w * (above[j] + below[j])
