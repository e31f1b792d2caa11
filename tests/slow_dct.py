"""`dct` decoded as docs/mgt-format.md says, in plain Python."""

from __future__ import annotations

import zlib

import numpy as np
from scipy.fft import dctn, idct, idctn
from scipy.ndimage import map_coordinates

from slow_decoder import Container, bits, blocks, stored


def sizes(data: bytes, grid: tuple[int, int]) -> tuple[np.ndarray, bytes]:
    """Blocks along a side of what each block belongs to, and what follows."""
    side, over = np.ones(grid, int), np.zeros((grid[0] // 4, grid[1] // 4), int)
    for n in (4, 2):
        shape = (grid[0] // n, grid[1] // n)
        if n == 2:
            wide = np.zeros(shape, int)
            for i, j in np.argwhere(over):
                wide[2 * i : 2 * i + 2, 2 * j : 2 * j + 2] = 1
            over = wide
        length = int.from_bytes(data[:4], "little")
        part, data = data[4 : 4 + length], data[4 + length :]
        joined = bits(part, shape, over)
        for i, j in np.argwhere(joined & (1 - over) if n == 2 else joined):
            side[n * i : n * (i + 1), n * j : n * (j + 1)] = n
        over = joined
    return side, data


#: Table K.1 of ITU-T T.81.
K1 = np.array([
    [16, 11, 10, 16, 24, 40, 51, 61], [12, 12, 14, 19, 26, 58, 60, 55],
    [14, 13, 16, 24, 40, 57, 69, 56], [14, 17, 22, 29, 51, 87, 80, 62],
    [18, 22, 37, 56, 68, 109, 103, 77], [24, 35, 55, 64, 81, 104, 113, 92],
    [49, 64, 78, 87, 103, 121, 120, 101], [72, 92, 95, 98, 112, 100, 103, 99],
])  # fmt: skip


def dct(
    data: bytes, step: float, block: tuple[int, ...] | None, *, backend: str = "range",
    colour: str = "luma-chroma", weights: str = "flat", stack: tuple[int, ...] = (),
) -> np.ndarray:  # fmt: skip
    """A picture of `dct`; `step` in full scale; blocks of all sizes without their sides."""
    c = Container(data)
    half = -(-c.height // 2), -(-c.width // 2)
    planes = []
    for section in c.sections:
        small = len(planes) > 0 and (c.colour, colour) == (1, "half-chroma")
        size = half if small else (c.height, c.width)
        planes.append(plane_of(section, size, step, block, backend, weights))
        if small:
            planes[-1] = doubled(doubled(planes[-1])[: c.height].T)[: c.width].T
    if block and len(block) > 2:
        cube = np.stack(planes).reshape(*(stack or (len(planes),)), c.height, c.width)
        for axis, side in enumerate(block[2:]):
            parts = np.split(cube, range(side, cube.shape[axis], side), axis)
            cube = np.concatenate([idct(part, axis=axis, norm="ortho") for part in parts], axis)
        planes = list(cube.reshape(-1, c.height, c.width))
    return stored(c, planes, luma=colour != "none")


def doubled(plane: np.ndarray) -> np.ndarray:
    """Each row as two, a quarter of the way to their neighbours."""
    padded = np.pad(plane, ((1, 1), (0, 0)), mode="edge")
    pair = padded[:-2] / 4 + 3 * plane / 4, padded[2:] / 4 + 3 * plane / 4
    return np.stack(pair, axis=1).reshape(2 * len(plane), -1)


def plane_of(
    section: bytes, size: tuple[int, int], step: float, block: tuple[int, ...] | None,
    backend: str, weights: str,
) -> np.ndarray:  # fmt: skip
    h, w = (min(n, side) for n, side in zip(size, block or (8, 8), strict=False))
    grid = -(-size[0] // h), -(-size[1] // w)
    strength, numbers = section[0], section[1:]
    whole = block or min(size) < 8
    of, numbers = (np.ones(grid, int), numbers) if whole else sizes(numbers, grid)
    q = numbers_in(numbers, (*grid, h, w), backend) * step
    if weights == "t81":
        axes = np.meshgrid(np.linspace(0, 7, h), np.linspace(0, 7, w), indexing="ij")
        q = q * map_coordinates(K1 / 16, axes, order=1)
    plane = np.zeros((grid[0] * h, grid[1] * w))
    for i, j in np.ndindex(*grid):
        n = of[i, j]
        if i % n or j % n:
            continue
        large = np.zeros((h * n, w * n))
        for a, b in np.ndindex(n, n):
            large[a::n, b::n] = q[i + a, j + b]
        large[:n, :n] = dctn(large[:n, :n], norm="ortho") if n > 1 else large[:n, :n]
        plane[i * h : (i + n) * h, j * w : (j + n) * w] = idctn(large, norm="ortho")
    return smoothed(plane[: size[0], : size[1]], strength * step / 10)


def numbers_in(data: bytes, shape: tuple[int, int, int, int], backend: str) -> np.ndarray:
    """Numbers in blocks, of any back end."""
    if backend == "range":
        return blocks(data, shape)
    data = zlib.decompress(data) if backend == "zlib" else data
    h, w = shape[2:]
    small = np.frombuffer(data[: np.prod(shape)], np.uint8).astype(int) - 127
    long = np.frombuffer(data[small.size :], "<i4")
    small[small == 128] = long
    by_position = small.reshape(h * w, *shape[:2])
    by_position[0] = by_position[0].cumsum().reshape(shape[:2])
    q = np.zeros(shape, int)
    order = sorted(np.ndindex(h, w), key=lambda p: (p[0] / h) ** 2 + (p[1] / w) ** 2)
    for k, (u, v) in enumerate(order):
        q[:, :, u, v] = by_position[k]
    return q


def smoothed(plane: np.ndarray, least: float) -> np.ndarray:
    """Mean of all 8x8 blocks without small coefficients, weighted by 1 / coefficients left."""
    if least == 0:
        return plane
    padded = np.pad(plane, 7, mode="symmetric")
    blocks = np.lib.stride_tricks.sliding_window_view(padded, (8, 8))
    spectra = dctn(blocks, axes=(2, 3), norm="ortho")
    left = np.abs(spectra) > least
    left[..., 0, 0] = True
    share = 1 / left.sum(axis=(2, 3))
    parts = idctn(spectra * left, axes=(2, 3), norm="ortho") * share[..., None, None]
    total, weights = np.zeros_like(padded), np.zeros_like(padded)
    for y, x in np.ndindex(8, 8):
        covered = np.s_[y : y + share.shape[0], x : x + share.shape[1]]
        total[covered] += parts[..., y, x]
        weights[covered] += share
    return (total / weights)[7:-7, 7:-7]
