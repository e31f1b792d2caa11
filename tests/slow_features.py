"""FSIM and IW-SSIM by their definitions, with their maps, plainly written."""

from __future__ import annotations

import math

import numpy as np
from scipy import ndimage

from magnetite.core.compute.windows import gaussian_kernel

BINOMIAL = np.outer([1, 4, 6, 4, 1], [1, 4, 6, 4, 1]) / 256


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
    positions = list(np.ndindex(x.shape[0] - 2, x.shape[1] - 2))
    around = []
    for i, j in positions:
        vector = x[i : i + 3, j : j + 3].ravel()
        around.append(vector if below is None else np.append(vector, below[i + 1, j + 1]))
    vectors = np.array(around)
    covariance = vectors.T @ vectors / len(vectors)
    eigenvalues, inverse = np.linalg.eigvalsh(covariance), np.linalg.inv(covariance)
    bits, noise = np.zeros((x.shape[0] - 2, x.shape[1] - 2)), 0.4
    for (i, j), vector in zip(positions, vectors, strict=True):
        u, v = x[i : i + 3, j : j + 3], y[i : i + 3, j : j + 3]
        gain = ((u * v).mean() - u.mean() * v.mean()) / u.var()
        rest = v.var() - gain * ((u * v).mean() - u.mean() * v.mean())
        strength = vector @ inverse @ vector / len(vector)
        for k in eigenvalues:
            above = (rest + (1 + gain**2) * noise) * strength * k + noise * rest
            bits[i, j] += math.log2(1 + above / noise**2)
    return bits


def slow_iw_ssim(x: np.ndarray, y: np.ndarray) -> float:
    window = np.outer(*[gaussian_kernel(1.5, 5)] * 2)
    one, two = slow_pyramid(x), slow_pyramid(y)
    result = 1.0
    for j, power in enumerate((0.0448, 0.2856, 0.3001, 0.2363, 0.1333)):
        shape = one[j].shape[0] - 10, one[j].shape[1] - 10
        local, structure = np.empty(shape), np.empty(shape)
        for i, k in np.ndindex(shape):
            u, v = one[j][i : i + 11, k : k + 11], two[j][i : i + 11, k : k + 11]
            mu, mv = (window * u).sum(), (window * v).sum()
            su, sv = (window * (u - mu) ** 2).sum(), (window * (v - mv) ** 2).sum()
            both = (window * (u - mu) * (v - mv)).sum()
            structure[i, k] = (2 * both + 58.5225) / (su + sv + 58.5225)
            local[i, k] = (2 * mu * mv + 6.5025) / (mu**2 + mv**2 + 6.5025)
        if j == 4:
            result *= float((structure * local).mean()) ** power
        else:
            bits = slow_information(one[j], two[j], one[j + 1] if j < 3 else None)[4:-4, 4:-4]
            result *= float((bits * structure).sum() / bits.sum()) ** power
    return result


def slow_phase_congruency(plane: np.ndarray) -> np.ndarray:
    """Written out for each orientation and scale, energies by trigonometry."""
    height, width = plane.shape
    spectrum, above, below = np.fft.fft2(plane), 0.0, 0.0
    for o in range(4):
        filters, responses = [], []
        for s in range(4):
            f = np.zeros((height, width))
            for i, j in np.ndindex(height, width):
                v, u = (i + height // 2) % height - height // 2, (j + width // 2) % width
                u = u - width // 2
                r = math.hypot(v / height, u / width)
                if r == 0:
                    continue
                ring = math.exp(-((math.log(r * 6 * 2**s) / math.log(0.55)) ** 2) / 2)
                apart = (math.atan2(-v / height, u / width) - o * math.pi / 4) % (2 * math.pi)
                apart = min(apart, 2 * math.pi - apart)
                wedge = math.exp(-((apart / (math.pi / 4.8)) ** 2) / 2)
                f[i, j] = ring * wedge / (1 + (r / 0.45) ** 30)
            filters.append(f)
            responses.append(np.fft.ifft2(spectrum * f))
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
