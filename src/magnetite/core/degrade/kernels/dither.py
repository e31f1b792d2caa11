"""Dither patterns: ordered thresholds and error diffusion."""

from __future__ import annotations

import functools

import numpy as np

from magnetite.core.arrays import Bools, Float32, Float64, Indices, Pixels

BLUE_NOISE_SIDE = 64
#: Width of the Gaussian that weighs neighbours in void-and-cluster (Ulichney's choice), px.
_CLUSTER_SIGMA = 1.5


def ordered(name: str, shape: tuple[int, ...]) -> Float32:
    """Pattern `bayer` or `blue-noise` tiled over a plane: evenly spread on -1/2 to 1/2."""
    ranks = bayer() if name == "bayer" else blue_noise()
    tile = ((ranks + 0.5) / ranks.size - 0.5).astype(np.float32)
    repeats = [-(-n // side) for n, side in zip(shape, tile.shape, strict=True)]
    return np.asarray(np.tile(tile, repeats)[: shape[0], : shape[1]])


def bayer() -> Indices:
    """Bayer's 8x8 matrix of ranks 0 to 63.

    Bayer, An optimum method for two-level rendition of continuous-tone pictures, IEEE ICC 1973.
    """
    ranks = np.zeros((1, 1), np.intp)
    for _ in range(3):
        ranks = np.block([[4 * ranks, 4 * ranks + 2], [4 * ranks + 3, 4 * ranks + 1]])
    return ranks


@functools.cache
def blue_noise() -> Indices:
    """Ranks 0 to 4095 on 64x64: any threshold gives dots without clumps, holes or period.

    Void-and-cluster: Ulichney, Proc. SPIE 1913, 1993, doi:10.1117/12.152707.
    """
    side, size = BLUE_NOISE_SIDE, BLUE_NOISE_SIDE**2
    rng = np.random.default_rng(1993)
    dots = np.zeros(size, bool)
    dots[rng.choice(size, size // 10, replace=False)] = True
    crowding = _Crowding(side, dots)
    while True:  # move dots from the tightest cluster to the largest void until they stay
        cluster = crowding.tightest(dots)
        crowding.change(dots, cluster)
        void = crowding.largest_void(dots)
        crowding.change(dots, void)
        if void == cluster:
            break
    ranks = np.zeros(size, np.intp)
    fewer, thinned = dots.copy(), _Crowding(side, dots)
    for rank in range(int(dots.sum()) - 1, -1, -1):
        position = thinned.tightest(fewer)
        thinned.change(fewer, position)
        ranks[position] = rank
    for rank in range(int(dots.sum()), size):
        position = crowding.largest_void(dots)
        crowding.change(dots, position)
        ranks[position] = rank
    return ranks.reshape(side, side)


class _Crowding:
    """How crowded each position of a tile is by dots, in a Gaussian neighbourhood that wraps."""

    def __init__(self, side: int, dots: Bools) -> None:
        near = np.minimum(np.arange(side), side - np.arange(side))
        weight = np.exp(-0.5 * (near[:, np.newaxis] ** 2 + near**2) / _CLUSTER_SIGMA**2)
        self._weight = np.tile(weight, (2, 2))
        self._side = side
        self._field = np.zeros((side, side))
        for position in np.flatnonzero(dots):
            self._field += self._around(int(position))

    def _around(self, position: int) -> Float64:
        side = self._side
        row, column = side - position // side, side - position % side
        return self._weight[row : row + side, column : column + side]

    def change(self, dots: Bools, position: int) -> None:
        """Set or remove one dot."""
        self._field += -self._around(position) if dots[position] else self._around(position)
        dots[position] = not dots[position]

    def tightest(self, dots: Bools) -> int:
        return int(np.where(dots, self._field.ravel(), -np.inf).argmax())

    def largest_void(self, dots: Bools) -> int:
        return int(np.where(dots, np.inf, self._field.ravel()).argmin())


def diffused(plane: Pixels, first: float, step: float, count: int) -> Pixels:
    """Round a plane to levels and hand each error on: 7/16 ahead, 3/16, 5/16 and 1/16 below.

    Rows run forth and back in turn. Floyd and Steinberg, Proc. Society for Information Display
    17(2), 1976.
    """
    from magnetite.core.degrade.kernels.diffusion import diffuse

    out = plane.clip(0, 1).astype(np.float64)
    diffuse(out, first, step, count)
    return out.astype(plane.dtype)
