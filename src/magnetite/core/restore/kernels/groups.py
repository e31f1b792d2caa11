"""Hot loops of collaborative filtering: groups of blocks, shrunk together."""

from __future__ import annotations

import math

import numpy as np

from magnetite.core.arrays import Float32, Int64
from magnetite.core.compute.jit import compiled

#: A number as these loops take it.
Single = float | np.float32

_compiled = compiled(fastmath=True)

_POSITIONS = 64
_HALF = np.float32(math.sqrt(0.5))
_ZERO, _ONE = np.float32(0), np.float32(1)
_POSITION = 2**32 - 1


@_compiled
def threshold_groups(
    keys: Int64,
    noisy: Float32,
    first: int,
    width: int,
    threshold: Single,
    total: Float32,
    weight: Float32,
) -> None:
    """Hard thresholding of one row's groups; their weight is one over the number kept.

    Parameters
    ----------
    keys : int64 array, shape (groups, n), as of `match_rows`
    noisy : float32 array, shape (rows, positions, 64)
        Coefficients of all blocks from row `first` on.
    width : int
        Of the plane.
    total, weight : float32 arrays, shapes (rows, positions, 64) and (rows, positions)
        Shrunk coefficients times their weight, and the weights, are added.
    """
    group = np.empty((keys.shape[1], _POSITIONS), np.float32)
    for i in range(keys.shape[0]):
        size = _size(keys[i])
        _gather(keys[i], size, noisy, first, width, group)
        _haar(group, size)
        kept = 0
        for j in range(size):
            for k in range(_POSITIONS):
                large = abs(group[j, k]) > threshold
                kept += large
                group[j, k] = group[j, k] if large else _ZERO
        _haar_back(group, size)
        _scatter(keys[i], size, group, _ONE / np.float32(max(1, kept)), first, width, total, weight)


@_compiled
def wiener_groups(
    keys: Int64, noisy: Float32, basic: Float32, first: int, width: int, variance: Single,
    total: Float32, weight: Float32,
) -> None:  # fmt: skip
    """Wiener filtering by the basic estimate's spectrum; arguments as of `threshold_groups`."""
    group = np.empty((keys.shape[1], _POSITIONS), np.float32)
    guide = np.empty_like(group)
    for i in range(keys.shape[0]):
        size = _size(keys[i])
        _gather(keys[i], size, noisy, first, width, group)
        _gather(keys[i], size, basic, first, width, guide)
        _haar(group, size)
        _haar(guide, size)
        energy = _ZERO
        for j in range(size):
            for k in range(_POSITIONS):
                power = guide[j, k] * guide[j, k]
                gain = power / (power + variance)
                energy += gain * gain
                group[j, k] *= gain
        _haar_back(group, size)
        _scatter(
            keys[i], size, group, _ONE / max(energy, np.float32(1e-6)), first, width, total, weight
        )


@_compiled
def _size(keys: Int64) -> int:
    """The largest power of two that is not above the number of blocks."""
    size = 1
    while 2 * size <= keys.size and keys[2 * size - 1] >= 0:
        size *= 2
    return size


@_compiled
def _gather(keys, size, blocks, first, width, group):  # type: ignore[no-untyped-def]
    for j in range(size):
        position = keys[j] & _POSITION
        y, x = position // width - first, position % width
        for k in range(_POSITIONS):
            group[j, k] = blocks[y, x, k]


@_compiled
def _scatter(keys, size, group, share, first, width, total, weight):  # type: ignore[no-untyped-def]
    for j in range(size):
        position = keys[j] & _POSITION
        y, x = position // width - first, position % width
        for k in range(_POSITIONS):
            total[y, x, k] += share * group[j, k]
        weight[y, x] += share


@_compiled
def _haar(group: Float32, size: int) -> None:
    """Orthonormal Haar transform along a group, in place: sums at even positions, then of those."""
    flat, stride = group.reshape(-1), 1
    while stride < size:
        for i in range(0, size, 2 * stride):
            _butterfly(flat, np.uint64(i * _POSITIONS), np.uint64((i + stride) * _POSITIONS))
        stride *= 2


@_compiled
def _haar_back(group: Float32, size: int) -> None:
    flat, stride = group.reshape(-1), size // 2
    while stride > 0:
        for i in range(0, size, 2 * stride):
            _butterfly(flat, np.uint64(i * _POSITIONS), np.uint64((i + stride) * _POSITIONS))
        stride //= 2


@_compiled
def _butterfly(flat, one, two):  # type: ignore[no-untyped-def]
    """Sum and difference, which undo themselves."""
    for k in range(np.uint64(_POSITIONS)):
        a, b = flat[one + k], flat[two + k]
        flat[one + k], flat[two + k] = (a + b) * _HALF, (a - b) * _HALF
