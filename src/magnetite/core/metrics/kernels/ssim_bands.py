"""The hot loop of SSIM: one pass over tiles, nothing of the picture's size in between."""

from __future__ import annotations

import math

import numpy as np

from magnetite.core.arrays import Float32, Float64, Samples
from magnetite.core.compute.bands import bands
from magnetite.core.compute.jit import compiled, readable
from magnetite.core.compute.threads import spread
from magnetite.core.methods.sums import Totals

#: The window that is unrolled here: 11 taps, symmetric.
TAPS = 11
#: Rows of windows that are summed up at a time: the order of the sum does not depend on threads.
BAND = 256
#: Rows and columns of windows worked on at a time: their filtered rows stay in the cache.
_ROWS, _TILE = 64, 128
_HALF = TAPS - 1


def summed_similarity(x: Samples, y: Samples, weights: Float64, c1: float, c2: float) -> Totals:
    """SSIM summed over all 11x11 windows, and their number.

    Equation 13 of Wang, Bovik, Sheikh and Simoncelli (2004) is the quotient. Moments are taken
    in float32 about the means of each strip of 256 rows and columns, sums in float64: the
    quotient lies within 1e-7 of the definition in float64, for pictures with grain within 1e-8.

    Parameters
    ----------
    x, y : uint8, uint16 or float64 arrays of one type, shape (h, w), h and w at least 11
    weights : float64 array, shape (11,)
        Symmetric, of unit sum.
    c1, c2 : float
        Stabilising constants, in the square of the arrays' unit.
    """
    sums = _over_bands(False, x, y, weights, c1, c2)
    return float(sums[0]), _windows(x)


def summed_terms(
    x: Samples, y: Samples, weights: Float64, c1: float, c2: float
) -> dict[str, Totals]:
    """The same for luminance, contrast, structure, and contrast and structure together."""
    sums = _over_bands(True, x, y, weights, c1, c2)
    names = ("luminance", "contrast", "structure", "contrast_structure")
    return {name: (float(total), _windows(x)) for name, total in zip(names, sums, strict=True)}


def _windows(x: Samples) -> int:
    return (int(x.shape[0]) - _HALF) * (int(x.shape[1]) - _HALF)


def _over_bands(
    terms: bool, x: Samples, y: Samples, weights: Float64, c1: float, c2: float
) -> Float64:
    """Sums of the compiled loop over bands of rows."""
    half = _rounded(weights[: TAPS // 2 + 1])
    x, y = readable(x), readable(y)
    grid = 1.0 if x.dtype.kind == "u" else math.sqrt(c1) / 8
    parts = bands(int(x.shape[0]) - _HALF, BAND)
    sums = np.zeros((len(parts), 4))

    def work(i: int) -> None:
        rows = slice(parts[i].start, parts[i].stop + _HALF)
        _band(x[rows], y[rows], half, grid, np.float32(c1), np.float32(c2), terms, sums[i])

    spread(work, range(len(parts)))
    return np.asarray(sums.sum(axis=0))


def _rounded(half: Float64) -> Float32:
    """Weights in float32 whose sum over the window is 1 to their last digit."""
    rounded = half.astype(np.float32)
    rounded[-1] = 1 - 2 * rounded[:-1].sum(dtype=np.float64)
    return rounded


_compiled = compiled(fastmath={"contract", "nsz", "reassoc", "arcp"})


@_compiled
def _offset(samples: Samples, left: int, right: int, grid: float) -> np.float32:
    """Mean of every eighth row of a strip, rounded: whole numbers less it are exact."""
    total, rows = 0.0, (samples.shape[0] + 7) // 8
    for i in range(0, samples.shape[0], 8):
        row = samples[i, left:right]
        for j in range(row.size):
            total += row[j]
    return np.float32(np.rint(total / (rows * (right - left)) / grid) * grid)


@_compiled
def _products(line: Float32, u: Samples, v: Samples, ox: np.float32, oy: np.float32) -> None:
    """Sum and difference of samples less their offsets, and the squares of both."""
    plus, minus, plus2, minus2 = line[0], line[1], line[2], line[3]
    for j in range(u.size):
        a, b = np.float32(u[j] - ox), np.float32(v[j] - oy)
        plus[j] = a + b
        minus[j] = a - b
        plus2[j] = (a + b) * (a + b)
        minus2[j] = (a - b) * (a - b)


@_compiled
def _product_of_both(line: Float32) -> None:
    for j in range(line.shape[1]):
        line[4, j] = line[0, j] * line[1, j]


@_compiled
def _along(out: Float32, f: Float32, w: Float32) -> None:
    """Weighted sums of 11 neighbours along a row."""
    w0, w1, w2, w3, w4, w5 = w[0], w[1], w[2], w[3], w[4], w[5]
    for j in range(out.size):
        out[j] = (
            w0 * (f[j] + f[j + 10]) + w1 * (f[j + 1] + f[j + 9]) + w2 * (f[j + 2] + f[j + 8])
            + w3 * (f[j + 3] + f[j + 7]) + w4 * (f[j + 4] + f[j + 6]) + w5 * f[j + 5]
        )  # fmt: skip


@_compiled
def _down(out: Float32, f: Float32, w: Float32) -> None:
    """Weighted sums down 11 rows of a tile."""
    w0, w1, w2, w3, w4, w5 = w[0], w[1], w[2], w[3], w[4], w[5]
    for j in range(out.size):
        out[j] = (
            w0 * (f[j] + f[j + 10 * _TILE])
            + w1 * (f[j + _TILE] + f[j + 9 * _TILE])
            + w2 * (f[j + 2 * _TILE] + f[j + 8 * _TILE])
            + w3 * (f[j + 3 * _TILE] + f[j + 7 * _TILE])
            + w4 * (f[j + 4 * _TILE] + f[j + 6 * _TILE])
            + w5 * f[j + 5 * _TILE]
        )


@_compiled
def _similarity(
    means: Float32, n: int, ox: np.float32, oy: np.float32, c1: np.float32, c2: np.float32,
    sums: Float64,
) -> None:  # fmt: skip
    """Add up the similarity along one row of a tile.

    With the variances of sum and difference, sx² + sy² is half their sum and 2 sxy half their
    difference: where the pictures agree, rounding cancels.
    """
    total, half, twice = 0.0, np.float32(0.5), c2 + c2
    ms, md, mss, mdd = means[0], means[1], means[2], means[3]
    for j in range(n):
        vs, vd = mss[j] - ms[j] * ms[j], mdd[j] - md[j] * md[j]
        mx, my = half * (ms[j] + md[j]) + ox, half * (ms[j] - md[j]) + oy
        product = mx * my
        above = (product + product + c1) * (vs - vd + twice)
        total += above / ((mx * mx + my * my + c1) * (vs + vd + twice))
    sums[0] += total


@_compiled
def _terms(
    means: Float32, n: int, ox: np.float32, oy: np.float32, c1: np.float32, c2: np.float32,
    sums: Float64,
) -> None:  # fmt: skip
    """Add up luminance, contrast, structure, and the product of the last two.

    4 sx sy is the root of the sum's and difference's variances together, squared, less four
    times their covariance squared.
    """
    light, contrast, structure, both = 0.0, 0.0, 0.0, 0.0
    half, twice = np.float32(0.5), c2 + c2
    for j in range(n):
        ms, md = means[0, j], means[1, j]
        vs, vd = means[2, j] - ms * ms, means[3, j] - md * md
        mx, my = half * (ms + md) + ox, half * (ms - md) + oy
        product = mx * my
        light += (product + product + c1) / (mx * mx + my * my + c1)
        mixed = means[4, j] - ms * md
        total = vs + vd
        roots = np.sqrt(max(np.float32(0), total * total - np.float32(4) * mixed * mixed))
        contrast += (roots + twice) / (total + twice)
        structure += (vs - vd + twice) / (roots + twice)
        both += (vs - vd + twice) / (total + twice)
    sums[0] += light
    sums[1] += contrast
    sums[2] += structure
    sums[3] += both


@_compiled
def _band(
    x: Samples, y: Samples, w: Float32, grid: float, c1: np.float32, c2: np.float32, terms: bool,
    sums: Float64,
) -> None:  # fmt: skip
    """Add up the similarity, or its terms, from the moments of each row of windows."""
    # Offsets are multiples of `grid`.
    moments = 5 if terms else 4
    rows, columns = x.shape[0] - _HALF, x.shape[1] - _HALF
    # Of a row: the sum of both, their difference, the squares of these and, of five moments,
    # the product of both; then the same for all rows of a tile after the filter along them,
    # and for one row after the other filter.
    line = np.empty((moments, _TILE + _HALF), np.float32)
    tile = np.empty((moments, (_ROWS + _HALF) * _TILE), np.float32)
    means = np.empty((moments, _TILE), np.float32)
    for left in range(0, columns, _TILE):
        n = min(_TILE, columns - left)
        right = left + n + _HALF
        ox, oy = _offset(x, left, right, grid), _offset(y, left, right, grid)
        for start in range(0, rows, _ROWS):
            begin = 0
            if start:  # the last rows of the block before are the first of this one
                begin = _HALF
                for k in range(moments):
                    for j in range(_HALF * _TILE):
                        tile[k, j] = tile[k, _ROWS * _TILE + j]
            count = min(_ROWS, rows - start)
            for i in range(begin, count + _HALF):
                _products(line, x[start + i, left:right], y[start + i, left:right], ox, oy)
                if terms:
                    _product_of_both(line)
                for k in range(moments):
                    _along(tile[k, i * _TILE : i * _TILE + n], line[k], w)
            for i in range(count):
                for k in range(moments):
                    _down(means[k, :n], tile[k, i * _TILE :], w)
                if terms:
                    _terms(means, n, ox, oy, c1, c2, sums)
                else:
                    _similarity(means, n, ox, oy, c1, c2, sums)
