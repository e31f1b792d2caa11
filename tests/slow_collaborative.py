"""Collaborative filtering written from its description, block by block: slow, and independent."""

from __future__ import annotations

import numpy as np
from scipy.fft import dctn, idctn

BLOCK, STEP, REACH = 8, 3, 19


def wavelet(block: np.ndarray, inverse: bool = False) -> np.ndarray:
    """Biorthogonal 1.5 in three periodic levels, rows of the matrix of unit length."""
    matrix = np.stack([_levels(column) for column in np.eye(BLOCK)], axis=1)
    matrix /= np.sqrt((matrix**2).sum(axis=1, keepdims=True))
    if inverse:
        matrix = np.linalg.inv(matrix)
    return matrix @ block @ matrix.T


def _levels(line: np.ndarray) -> np.ndarray:
    taps = np.array([3, -3, -22, 22, 128, 128, 22, -22, -3, 3]) * np.sqrt(2) / 256
    low, details = line, []
    while low.size > 1:
        around = [np.roll(low, 4 - k)[::2] for k in range(10)]
        details.insert(0, (low[1::2] - low[::2]) / np.sqrt(2))
        low = sum(tap * part for tap, part in zip(taps, around, strict=True))
    return np.concatenate([low, *details])


def haar(stack: np.ndarray) -> np.ndarray:
    """Orthonormal Haar transform along the first axis, by its matrix."""
    return np.tensordot(_haar_matrix(stack.shape[0]), stack, 1)


def _haar_matrix(size: int) -> np.ndarray:
    if size == 1:
        return np.eye(1)
    half = _haar_matrix(size // 2)
    top = np.kron(half, [1, 1]) / np.sqrt(2)
    return np.vstack([top, np.kron(np.eye(size // 2), [1, -1]) / np.sqrt(2)])


def positions(side: int) -> list[int]:
    return sorted({*range(0, side - BLOCK + 1, STEP), side - BLOCK})


def nearest(plane: np.ndarray, y: int, x: int, most: int, farthest: float) -> list[tuple[int, int]]:
    """The reference, then the blocks most like it, as many as the largest power of two."""
    here, found = plane[y : y + BLOCK, x : x + BLOCK], []
    for i in range(max(0, y - REACH), min(plane.shape[0] - BLOCK, y + REACH) + 1):
        for j in range(max(0, x - REACH), min(plane.shape[1] - BLOCK, x + REACH) + 1):
            distance = np.mean((plane[i : i + BLOCK, j : j + BLOCK] - here) ** 2)
            if distance < farthest and (i, j) != (y, x):
                found.append((distance, i, j))
    chosen = [(y, x), *((i, j) for _, i, j in sorted(found))][:most]
    return chosen[: 2 ** int(np.log2(len(chosen)))]


def stage(
    noisy: np.ndarray, basic: np.ndarray | None, sd: float, most: int, farthest: float
) -> np.ndarray:
    total, weights = np.zeros_like(noisy), np.zeros_like(noisy)
    window = np.outer(np.kaiser(BLOCK, 2), np.kaiser(BLOCK, 2))
    for y in positions(noisy.shape[0]):
        for x in positions(noisy.shape[1]):
            group = nearest(noisy if basic is None else basic, y, x, most, farthest)
            blocks = [noisy[i : i + BLOCK, j : j + BLOCK] for i, j in group]
            if basic is None:
                spectrum = haar(np.stack([wavelet(b) for b in blocks]))
                kept = np.abs(spectrum) > 2.7 * sd
                spectrum, weight = spectrum * kept, 1 / max(1, kept.sum())
            else:
                guide = [basic[i : i + BLOCK, j : j + BLOCK] for i, j in group]
                power = haar(np.stack([dctn(b, norm="ortho") for b in guide])) ** 2
                gain = power / (power + sd**2)
                spectrum = haar(np.stack([dctn(b, norm="ortho") for b in blocks])) * gain
                weight = 1 / (gain**2).sum()
            back = np.tensordot(_haar_matrix(len(group)).T, spectrum, 1)
            for (i, j), block in zip(group, back, strict=True):
                plain = wavelet(block, True) if basic is None else idctn(block, norm="ortho")
                total[i : i + BLOCK, j : j + BLOCK] += weight * window * plain
                weights[i : i + BLOCK, j : j + BLOCK] += weight * window
    return total / weights


def filtered(noisy: np.ndarray, sd: float) -> tuple[np.ndarray, np.ndarray]:
    """Both stages, on samples and sd of 255."""
    first = stage(noisy, None, sd, 16, 2500)
    return first, stage(noisy, first, sd, 32, 400)
