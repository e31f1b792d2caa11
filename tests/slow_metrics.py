"""Every metric by its definition, as plainly as it can be written; arrays on 0..255."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from scipy import ndimage
from scipy.stats import chi2

from slow_features import slow_fsim, slow_iw_ssim, windowed

Plane = np.ndarray
LUMA = np.array([0.299, 0.587, 0.114])


def luma(x: Plane) -> Plane:
    return x if x.ndim == 2 else (x * LUMA).sum(axis=2)


def on_luma(metric: Callable[[Plane, Plane], float]) -> Callable[[Plane, Plane], float]:
    return lambda x, y: metric(luma(x), luma(y))


def on_each(metric: Callable[[Plane, Plane], float]) -> Callable[[Plane, Plane], float]:
    def mean(x: Plane, y: Plane) -> float:
        if x.ndim == 2:
            return metric(x, y)
        return float(np.mean([metric(x[..., c], y[..., c]) for c in range(x.shape[2])]))

    return mean


def ratio(over: float, under: float) -> float:
    return over / under if under else (math.inf if over else 0.0)


def decibels(over: float, under: float) -> float:
    if under == 0:
        return math.inf
    return 10 * math.log10(over / under) if over else -math.inf


def mse(x: Plane, y: Plane) -> float:
    return float(((x - y) ** 2).sum() / x.size)


def sensitivity(f: Plane) -> Plane:
    return 2.6 * (0.0192 + 0.114 * f) * np.exp(-((0.114 * f) ** 1.1))


GRID = np.linspace(0, 60, 2_000_001)
PEAK = GRID[sensitivity(GRID).argmax()]


def csf_psnr(x: Plane, y: Plane) -> float:
    """The error's power at each frequency, weighted by Mannos and Sakrison's sensitivity."""
    error = x - y
    power = np.abs(np.fft.fft2(error)) ** 2 / error.size**2
    down, across = np.fft.fftfreq(error.shape[0]), np.fft.fftfreq(error.shape[1])
    f = 60 * np.hypot(down[:, None], across[None])
    weight = np.where(f <= PEAK, 1, sensitivity(f) / sensitivity(PEAK))
    return decibels(255**2, float((power * weight**2).sum()))


def psnr_b(x: np.ndarray, y: np.ndarray, block: int = 8) -> float:
    height, width = y.shape
    border, inner = [], []
    for i in range(height):
        for j in range(width - 1):
            (border if (j + 1) % block == 0 else inner).append((y[i, j] - y[i, j + 1]) ** 2)
    for i in range(height - 1):
        for j in range(width):
            (border if (i + 1) % block == 0 else inner).append((y[i, j] - y[i + 1, j]) ** 2)
    gap = np.mean(border) - np.mean(inner)
    effect = math.log2(block) / math.log2(min(height, width)) * gap if gap > 0 else 0.0
    error = ((x - y) ** 2).mean() + effect
    return 10 * math.log10(255**2 / error) if error else math.inf


def ssim_parts(x: Plane, y: Plane) -> tuple[Plane, Plane, Plane]:
    kernel = np.exp(-(np.arange(-5, 6) ** 2) / (2 * 1.5**2))
    window = np.outer(kernel, kernel) / kernel.sum() ** 2
    mu, mv, vu, vv, both = windowed(x, y, window)
    c1, c2 = 2.55**2, 7.65**2
    sd = np.sqrt(vu) * np.sqrt(vv)
    return (
        (2 * mu * mv + c1) / (mu**2 + mv**2 + c1),
        (2 * sd + c2) / (vu + vv + c2),
        (both + c2 / 2) / (sd + c2 / 2),
    )


def ms_ssim(x: Plane, y: Plane) -> float:
    product = 1.0
    for scale, power in enumerate((0.0448, 0.2856, 0.3001, 0.2363, 0.1333)):
        if scale:
            x, y = (
                (p[:-1:2, :-1:2] + p[1::2, :-1:2] + p[:-1:2, 1::2] + p[1::2, 1::2]) / 4
                for p in (p[: p.shape[0] // 2 * 2, : p.shape[1] // 2 * 2] for p in (x, y))
            )
        lightness, contrast, structure = ssim_parts(x, y)
        product *= max(0.0, (contrast * structure).mean()) ** power
    return float(product * max(0.0, lightness.mean()) ** 0.1333)


def uqi(x: Plane, y: Plane) -> float:
    u, v = (np.lib.stride_tricks.sliding_window_view(p, (8, 8)).reshape(-1, 64) for p in (x, y))
    mu, mv = u.mean(axis=1), v.mean(axis=1)
    spread = u.var(axis=1, ddof=1) + v.var(axis=1, ddof=1)
    both = ((u - mu[:, None]) * (v - mv[:, None])).sum(axis=1) / 63
    means = mu**2 + mv**2
    lightness = np.where(means > 0, 2 * mu * mv / np.where(means > 0, means, 1), 1)
    rest = np.where(spread > 1e-9, 2 * both / np.where(spread > 1e-9, spread, 1), 1)
    return float((lightness * rest).mean())


def gmsd(x: Plane, y: Plane) -> float:
    rows, columns = (n // 2 for n in x.shape)

    def gradients(p: Plane) -> Plane:
        p = p[: 2 * rows, : 2 * columns].reshape(rows, 2, columns, 2).mean(axis=(1, 3))
        kernel = np.array([[1, 0, -1]] * 3) / 3
        along, down = (ndimage.convolve(p, k)[1:-1, 1:-1] for k in (kernel, kernel.T))
        return np.sqrt(along**2 + down**2)

    a, b = gradients(x), gradients(y)
    return float(((2 * a * b + 170) / (a**2 + b**2 + 170)).std())


def edge_preservation(x: Plane, y: Plane) -> float:
    kernel = np.array([[0, 1, 0], [1, -4, 1], [0, 1, 0]])
    a, b = (ndimage.convolve(p, kernel)[1:-1, 1:-1] for p in (x, y))
    a, b = a - a.mean(), b - b.mean()
    under = math.sqrt((a**2).sum() * (b**2).sum())
    return float((a * b).sum() / under) if under else float((a**2).sum() == (b**2).sum())


def vif(x: Plane, y: Plane) -> float:
    above = below = 0.0
    a, b = x, y
    for scale in range(1, 5):
        size = 2 ** (5 - scale) + 1
        at = np.arange(size) - size // 2
        weights = np.exp(-(at[:, None] ** 2 + at[None] ** 2) / (2 * (size / 5) ** 2))
        weights /= weights.sum()

        def mean(p: Plane, weights: Plane = weights, half: int = size // 2) -> Plane:
            return ndimage.correlate(p, weights)[half:-half, half:-half]

        if scale > 1:
            a, b = mean(a)[::2, ::2], mean(b)[::2, ::2]
        ma, mb = mean(a), mean(b)
        va, vb, both = mean(a * a) - ma**2, mean(b * b) - mb**2, mean(a * b) - ma * mb
        g = np.where(va > 1e-8, both / np.where(va > 1e-8, va, 1), 0).clip(0)
        rest = (vb - g * both).clip(0)
        above += np.log1p(g**2 * va / (rest + 2)).sum()
        below += np.log1p(va.clip(0) / 2).sum()
    return float(above / below) if below > 1e-6 else float(np.ptp(y) == 0)


def mutual_information(x: Plane, y: Plane) -> float:
    counts = np.histogram2d(
        np.rint(x).clip(0, 255).ravel(), np.rint(y).clip(0, 255).ravel(),
        bins=256, range=((-0.5, 255.5), (-0.5, 255.5)),
    )[0]  # fmt: skip
    p = counts / counts.sum()
    apart = p.sum(axis=1, keepdims=True) * p.sum(axis=0)
    return float((p[p > 0] * np.log2(p[p > 0] / apart[p > 0])).sum())


def sam(x: Plane, y: Plane) -> float:
    lengths = np.linalg.norm(x, axis=2) * np.linalg.norm(y, axis=2)
    cosine = (x * y).sum(axis=2) / np.where(lengths > 0, lengths, 1)
    return float(np.degrees(np.arccos(cosine.clip(-1, 1))).mean())


def ergas(x: Plane, y: Plane) -> float:
    shares = [mse(x[..., c], y[..., c]) / x[..., c].mean() ** 2 for c in range(x.shape[2])]
    return 100 * math.sqrt(float(np.mean(shares)))


def residual(x: Plane, y: Plane) -> tuple[float, float]:
    """Rms autocorrelation at 12 displacements, and the p-value; of samples off the ends."""
    e = luma(x) - luma(y)
    e = e - e.mean()
    if np.abs(e).max() < 1e-3:
        return 0.0, 1.0
    power, square, chi = (e**2).mean(), 0.0, 0.0
    for down in range(3):
        for across in range(-2, 3):
            if (down, across) <= (0, 0):
                continue
            rows = e.shape[0] - down
            left, right = max(0, -across), max(0, across)
            here = e[:rows, left : e.shape[1] - right]
            there = e[down:, right : e.shape[1] - left]
            r = (here * there).mean() / power
            square, chi = square + r**2 / 12, chi + here.size * r**2
    return math.sqrt(square), float(chi2.sf(chi, 12))


DEFINITIONS: dict[str, Callable[[Plane, Plane], float]] = {
    "mse": mse,
    "rmse": lambda x, y: math.sqrt(mse(x, y)),
    "psnr": lambda x, y: decibels(255**2, mse(x, y)),
    "nrmse": lambda x, y: ratio(math.sqrt(mse(x, y)), math.sqrt((x**2).mean())),
    "mae": lambda x, y: float(np.abs(x - y).mean()),
    "max-error": lambda x, y: float(np.abs(x - y).max()),
    "snr": lambda x, y: decibels(float((x**2).mean()), mse(x, y)),
    "psnr-b": on_luma(psnr_b),
    "csf-psnr": on_luma(csf_psnr),
    "ssim": on_each(lambda x, y: float(np.prod(ssim_parts(x, y), axis=0).mean())),
    "ssim-luminance": on_each(lambda x, y: float(ssim_parts(x, y)[0].mean())),
    "ssim-contrast": on_each(lambda x, y: float(ssim_parts(x, y)[1].mean())),
    "ssim-structure": on_each(lambda x, y: float(ssim_parts(x, y)[2].mean())),
    "ms-ssim": on_each(ms_ssim),
    "uqi": on_each(uqi),
    "iw-ssim": on_luma(slow_iw_ssim),
    "gmsd": on_luma(gmsd),
    "edge-preservation": on_luma(edge_preservation),
    "fsim": on_luma(slow_fsim),
    "vif": on_luma(vif),
    "mutual-information": on_luma(mutual_information),
    "sam": sam,
    "ergas": ergas,
    "residual-structure": lambda x, y: residual(x, y)[0],
    "residual-whiteness": lambda x, y: residual(x, y)[1],
}
