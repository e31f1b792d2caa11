"""FSIM and IW-SSIM by their definitions, with their maps, plainly written."""

from __future__ import annotations

import math
from functools import cache

import numpy as np
from scipy import ndimage

from magnetite.core.compute.windows import gaussian_kernel

BINOMIAL = np.outer([1, 4, 6, 4, 1], [1, 4, 6, 4, 1]) / 256


def windowed(x: np.ndarray, y: np.ndarray, window: np.ndarray) -> tuple[np.ndarray, ...]:
    """Weighted means, variances and covariance of two planes in a window at each position."""
    height, width = (n - m + 1 for n, m in zip(x.shape, window.shape, strict=True))
    shifts = [
        (weight, x[i : i + height, j : j + width], y[i : i + height, j : j + width])
        for (i, j), weight in np.ndenumerate(window)
    ]
    mu, mv = sum(w * u for w, u, _ in shifts), sum(w * v for w, _, v in shifts)
    return (
        mu, mv, sum(w * (u - mu) ** 2 for w, u, _ in shifts),
        sum(w * (v - mv) ** 2 for w, _, v in shifts),
        sum(w * (u - mu) * (v - mv) for w, u, v in shifts),
    )  # fmt: skip


def slow_pyramid(plane: np.ndarray) -> list[np.ndarray]:
    bands = []
    for _ in range(4):
        coarse = ndimage.convolve(plane, BINOMIAL, mode="mirror")[::2, ::2]
        spread = np.zeros_like(plane)
        spread[::2, ::2] = coarse
        bands.append(plane - ndimage.convolve(spread, 4 * BINOMIAL, mode="mirror"))
        plane = coarse
    return [*bands, plane]


def slow_information(x: np.ndarray, y: np.ndarray, below: np.ndarray | None) -> np.ndarray:
    if below is not None:
        spread = np.zeros_like(x)
        spread[::2, ::2] = below
        below = ndimage.convolve(spread, 4 * BINOMIAL, mode="mirror")
    around, other = (
        np.lib.stride_tricks.sliding_window_view(p, (3, 3)).reshape(-1, 9) for p in (x, y)
    )
    vectors = around
    if below is not None:
        vectors = np.column_stack([around, below[1:-1, 1:-1].ravel()])
    covariance = vectors.T @ vectors / len(vectors)
    eigenvalues, inverse = np.linalg.eigvalsh(covariance), np.linalg.inv(covariance)
    both = (around * other).mean(axis=1) - around.mean(axis=1) * other.mean(axis=1)
    gain, noise = both / around.var(axis=1), 0.4
    rest = other.var(axis=1) - gain * both
    strength = np.array([v @ inverse @ v for v in vectors]) / vectors.shape[1]
    bits = np.zeros(len(vectors))
    for k in eigenvalues:
        above = (rest + (1 + gain**2) * noise) * strength * k + noise * rest
        bits += np.log2(1 + above / noise**2)
    return bits.reshape(x.shape[0] - 2, x.shape[1] - 2)


def slow_iw_ssim(x: np.ndarray, y: np.ndarray) -> float:
    window = np.outer(*[gaussian_kernel(1.5, 5)] * 2)
    one, two = slow_pyramid(x), slow_pyramid(y)
    result = 1.0
    for j, power in enumerate((0.0448, 0.2856, 0.3001, 0.2363, 0.1333)):
        mu, mv, su, sv, both = windowed(one[j], two[j], window)
        structure = (2 * both + 58.5225) / (su + sv + 58.5225)
        local = (2 * mu * mv + 6.5025) / (mu**2 + mv**2 + 6.5025)
        if j == 4:
            result *= float((structure * local).mean()) ** power
        else:
            bits = slow_information(one[j], two[j], one[j + 1] if j < 3 else None)[4:-4, 4:-4]
            result *= float((bits * structure).sum() / bits.sum()) ** power
    return result


@cache
def log_gabor(height: int, width: int, o: int, s: int) -> np.ndarray:
    """The filter of an orientation and a scale, 0 at the mean."""
    v = (np.arange(height)[:, None] + height // 2) % height - height // 2
    u = (np.arange(width) + width // 2) % width - width // 2
    r = np.hypot(v / height, u / width)
    r[0, 0] = 1
    ring = np.exp(-((np.log(r * 6 * 2**s) / math.log(0.55)) ** 2) / 2)
    apart = (np.arctan2(-v / height, u / width) - o * math.pi / 4) % (2 * math.pi)
    apart = np.minimum(apart, 2 * math.pi - apart)
    f = ring * np.exp(-((apart / (math.pi / 4.8)) ** 2) / 2) / (1 + (r / 0.45) ** 30)
    f[0, 0] = 0
    return f


def slow_phase_congruency(plane: np.ndarray) -> np.ndarray:
    """Written out for each orientation and scale, energies by trigonometry."""
    spectrum, above, below = np.fft.fft2(plane), 0.0, 0.0
    for o in range(4):
        filters = [log_gabor(*plane.shape, o, s) for s in range(4)]
        responses = [np.fft.ifft2(spectrum * f) for f in filters]
        mean_phase = np.angle(np.sum(responses, axis=0))
        energy = 0.0
        for z in responses:
            turned = np.angle(z) - mean_phase
            energy = energy + np.abs(z) * (np.cos(turned) - np.abs(np.sin(turned)))
        noise = np.median(np.abs(responses[0]) ** 2) / math.log(2) / (filters[0] ** 2).sum()
        tau = math.sqrt(noise * (np.sum(filters, axis=0) ** 2).sum() / 2)
        reach = tau * (math.sqrt(math.pi / 2) + 2 * math.sqrt(2 - math.pi / 2)) / 1.7
        above = above + np.maximum(energy - reach, 0)
        below = below + np.sum(np.abs(responses), axis=0)
    return np.asarray(above / below)


def slow_fsim(x: np.ndarray, y: np.ndarray) -> float:
    kernel = np.outer([3, 10, 3], [-1, 0, 1]) / 16
    p, q = slow_phase_congruency(x), slow_phase_congruency(y)
    g, h = (np.hypot(ndimage.correlate(z, kernel), ndimage.correlate(z, kernel.T)) for z in (x, y))
    alike = (2 * p * q + 0.85) / (p**2 + q**2 + 0.85)
    alike = alike * (2 * g * h + 160) / (g**2 + h**2 + 160)
    return float((alike * np.maximum(p, q)).sum() / np.maximum(p, q).sum())
