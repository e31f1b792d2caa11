"""`svd`, `pca`, `fourier` and `bit-planes` decoded as docs/mgt-format.md says."""

from __future__ import annotations

import math

import numpy as np

from slow_decoder import Container, bits, blocks, stored


def matrix(data: bytes, rows: int, columns: int) -> np.ndarray:
    return blocks(data, (rows, 1, 1, columns))[:, 0, 0]


def product(sections: list[bytes], m: int, n: int, step: float) -> np.ndarray:
    """A matrix of m x n from its singular values and both factors."""
    values = np.frombuffer(sections[0], "<f4").astype(float)
    c = step / math.sqrt(2 * values.size)
    left = matrix(sections[1], m, values.size) * c * np.sqrt(n / values)
    right = matrix(sections[2], n, values.size) * c * np.sqrt(m / values)
    return left @ right.T


def svd(data: bytes, step: float) -> np.ndarray:
    """A gray picture of `svd` without blocks; `step` in full scale."""
    c = Container(data)
    return stored(c, [product(c.sections, c.height, c.width, step)])


def svd_of_blocks(data: bytes, step: float, side: int) -> np.ndarray:
    """A gray picture of `svd` with square blocks."""
    c = Container(data)
    grid = -(-c.height // side), -(-c.width // side)
    most = int.from_bytes(c.sections[0][:2], "little")
    levels = blocks(c.sections[0][2:], (*grid, 1, most))[:, :, 0]
    left, right = (blocks(section, (*grid, most, side)) for section in c.sections[1:])
    whole = np.zeros((grid[0] * side, grid[1] * side))
    for i, j in np.ndindex(*grid):
        terms = np.flatnonzero(levels[i, j])
        for t in terms:
            value = step * 2 ** ((levels[i, j, t] - 1) / 2)
            unit = step / math.sqrt(2 * len(terms)) * math.sqrt(side / value)
            rows, columns = slice(i * side, (i + 1) * side), slice(j * side, (j + 1) * side)
            whole[rows, columns] += np.outer(left[i, j, t] * unit, right[i, j, t] * unit)
    return stored(c, [whole[: c.height, : c.width]])


def pca(data: bytes, step: float) -> np.ndarray:
    """A gray picture of `pca` of patches of 8x8; `step` in full scale."""
    c = Container(data)
    rows, columns = -(-c.height // 8), -(-c.width // 8)
    patches = product(c.sections[1:], rows * columns, 64, step)
    patches += matrix(c.sections[0], 1, 64) * step
    whole = patches.reshape(rows, columns, 8, 8).swapaxes(1, 2).reshape(8 * rows, 8 * columns)
    return stored(c, [whole[: c.height, : c.width]])


def fourier(data: bytes, phase_bits: int) -> np.ndarray:
    """A gray picture of `fourier`."""
    c = Container(data)
    shape = c.height, c.width // 2 + 1
    held = np.argwhere(bits(c.sections[0], shape, np.zeros(shape, int)))
    numbers = blocks(c.sections[1], (1, len(held), 1, 1)).ravel()
    packed = np.unpackbits(np.frombuffer(c.sections[2], np.uint8))[: len(held) * phase_bits]
    turns = packed.reshape(-1, phase_bits) @ 2.0 ** np.arange(phase_bits) + 0.5
    values = 2.0 ** (numbers / 8) * np.exp(2j * np.pi * turns / 2**phase_bits)
    spectrum = np.zeros((c.height, c.width), complex)
    for (y, x), value in zip(held, values, strict=True):
        if (2 * y % c.height, 2 * x % c.width) == (0, 0):
            spectrum[y, x] = math.copysign(abs(value), value.real)
        else:
            spectrum[y, x], spectrum[-y, -x] = value, np.conj(value)
    return stored(c, [np.fft.ifft2(spectrum, norm="ortho").real])


def bit_planes(data: bytes, keep: int, *, gray: bool) -> np.ndarray:
    """A gray picture of `bit-planes`."""
    c = Container(data)
    above = np.zeros((c.height, c.width), int)
    number, top = above.copy(), above.copy()
    for section in c.sections:
        above = bits(section, above.shape, above)
        top = top ^ above if gray else above
        number = 2 * number + top
    rest = c.bits - keep
    return (number << rest) + ((1 << rest) >> 1)
