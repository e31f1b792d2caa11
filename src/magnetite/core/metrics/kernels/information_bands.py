"""The hot loops of information weights: products of neighbourhoods, and their bits."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.compute.bands import bands
from magnetite.core.compute.jit import compiled, readable
from magnetite.core.compute.threads import spread

#: Rows of a piece of work.
_ROWS = 64

_compiled = compiled(fastmath={"contract", "nsz", "reassoc"})


def products(plane: Float64, below: Float64) -> Float64:
    """Sum over all 3x3 neighbourhoods of their outer products, shape (n, n).

    Parameters
    ----------
    plane : float64 array, shape (h, w)
    below : float64 array, shape (h - 2, w - 2) or (0, 0)
        One sample more for each neighbourhood, the tenth; none where empty.
    """
    count = 9 + int(below.size > 0)
    plane, below = readable(plane), readable(below)

    def work(part: slice) -> Float64:
        out = np.zeros((count, count))
        _products(plane, below, part.start, part.stop, out)
        return out

    return np.asarray(sum(spread(work, bands(plane.shape[0] - 2, _ROWS))))


@_compiled
def _products(plane: Float64, below: Float64, first: int, last: int, out: Float64) -> None:
    width, count = plane.shape[1] - 2, out.shape[0]
    around = np.empty((count, width))
    for i in range(first, last):
        _gather(plane, below, i, around)
        for a in range(count):
            one = around[a]
            for b in range(a, count):
                two, total = around[b], 0.0
                for j in range(width):
                    total += one[j] * two[j]
                out[a, b] += total
    for a in range(count):
        for b in range(a):
            out[a, b] = out[b, a]


@_compiled
def _gather(plane: Float64, below: Float64, i: int, around: Float64) -> None:
    """The neighbourhoods of a row: one row for each position, one column for each sample."""
    for position in range(9):
        source, shift, target = plane[i + position // 3], position % 3, around[position]
        for j in range(target.size):
            target[j] = source[j + shift]
    if around.shape[0] == 10:
        source, target = below[i], around[9]
        for j in range(target.size):
            target[j] = source[j]


def bits(
    plane: Float64, below: Float64, gain: Float64, noise: Float64,
    whiten: Float64, eigenvalues: Float64, visual_noise: float,
) -> Float64:  # fmt: skip
    """`Σ_k log2(1 + ((v + (1 + g²) n) s² l_k + n v) / n²)` of every neighbourhood.

    Parameters
    ----------
    plane, below
        As in `products`.
    gain, noise : float64 array, shape (h - 2, w - 2)
        g and v.
    whiten : float64 array, shape (k, 9 or 10)
        s² is the sum of the squares of its products with a neighbourhood.
    eigenvalues : float64 array, shape (k,)
    visual_noise : float
        n.
    """
    out = np.empty_like(gain)
    plane, below = readable(plane), readable(below)

    def work(part: slice) -> None:
        _bits(
            plane, below, gain[part], noise[part], whiten, eigenvalues, visual_noise,
            part.start, out[part],
        )  # fmt: skip

    spread(work, bands(gain.shape[0], _ROWS))
    return out


@_compiled
def _bits(
    plane: Float64, below: Float64, gain: Float64, noise: Float64, whiten: Float64,
    eigenvalues: Float64, visual_noise: float, first: int, out: Float64,
) -> None:  # fmt: skip
    rows, width = out.shape
    around, strength = np.empty((whiten.shape[1], width)), np.empty(width)
    white, varying = np.empty(width), np.empty(width)
    for i in range(rows):
        _gather(plane, below, first + i, around)
        for j in range(width):
            strength[j] = 0.0
        for k in range(whiten.shape[0]):
            for j in range(width):
                white[j] = 0.0
            for a in range(whiten.shape[1]):
                weight, line = whiten[k, a], around[a]
                for j in range(width):
                    white[j] += weight * line[j]
            for j in range(width):
                strength[j] += white[j] * white[j]
        told, v, g = out[i], noise[i], gain[i]
        for j in range(width):
            scale = (v[j] + (1 + g[j] * g[j]) * visual_noise) / (visual_noise * visual_noise)
            varying[j] = scale * strength[j]
            told[j] = 1.0
        for k in range(eigenvalues.size):
            for j in range(width):
                told[j] *= 1 + v[j] / visual_noise + varying[j] * eigenvalues[k]
        for j in range(width):
            told[j] = np.log2(told[j])
