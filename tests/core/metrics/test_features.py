"""Information-weighted and feature similarity against slow direct definitions."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import ndimage

from conftest import pair
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.metrics.phase import fsim, phase_congruency
from magnetite.core.metrics.weighting import information, iw_ssim, laplacian_pyramid

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
    places = list(np.ndindex(x.shape[0] - 2, x.shape[1] - 2))
    around = []
    for i, j in places:
        vector = x[i : i + 3, j : j + 3].ravel()
        around.append(vector if below is None else np.append(vector, below[i + 1, j + 1]))
    vectors = np.array(around)
    covariance = vectors.T @ vectors / len(vectors)
    eigenvalues, inverse = np.linalg.eigvalsh(covariance), np.linalg.inv(covariance)
    bits, noise = np.zeros((x.shape[0] - 2, x.shape[1] - 2)), 0.4
    for (i, j), vector in zip(places, vectors, strict=True):
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


def test_iw_ssim_is_its_definition() -> None:
    x, y = pair(177, 184)
    assert iw_ssim(x, y, 255) == pytest.approx(slow_iw_ssim(x, y), rel=1e-6)
    assert iw_ssim(x, x, 255) == pytest.approx(1, abs=1e-12)
    flat = np.full((180, 180), 90.0)
    assert iw_ssim(flat, flat + 3, 255) == pytest.approx(
        ((2 * 90 * 93 + 6.5025) / (90**2 + 93**2 + 6.5025)) ** 0.1333, rel=1e-9
    )


def test_information_is_found_where_the_reference_has_texture() -> None:
    x = np.full((180, 200), 100.0)
    x[:, 100:] += 40 * pair(180, 100)[0] / 255
    band = laplacian_pyramid(x, 2)[0]
    bits = information(band, band + np.random.default_rng(1).normal(0, 1, band.shape), None)
    assert bits[:, 110:].mean() > 2 * bits[:, :90].mean()


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


def test_fsim_is_its_definition() -> None:
    x, y = pair(61, 72)
    # The definition has no small constant in the mean phase; ours keeps it from 0 / 0.
    assert fsim(x, y, 255) == pytest.approx(slow_fsim(x, y), rel=1e-5)
    assert fsim(x, x, 255) == pytest.approx(1, abs=1e-12)
    small = x[:32, :36]
    big = np.kron(small, np.ones((12, 12)))
    assert fsim(big, big + 9, 255) == pytest.approx(fsim(small, small + 9, 255), rel=0.02)


def test_phase_congruency_tells_an_edge_whatever_its_height() -> None:
    edge = np.zeros((64, 96))
    edge[:, 32:64] = 1
    low, high = phase_congruency(20 * edge), phase_congruency(200 * edge)
    np.testing.assert_allclose(low, high, atol=1e-3)
    assert high[32, 31] > 0.7
    assert high[32, 16] < 0.3 * high[32, 31]
