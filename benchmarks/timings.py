"""Times against yardsticks in the same run: make bench. Ratios, not seconds, are what counts."""

from __future__ import annotations

import resource
import time
from collections.abc import Callable

import numpy as np
from scipy import ndimage

import magnetite
from magnetite.core.calibrate.photon_transfer import photon_transfer
from magnetite.core.chain.notation import parse_step
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.metrics.structure import ssim
from magnetite.core.picture import Picture, as_picture
from magnetite.core.verbs.score import DEFAULT_METRICS

HEIGHT, WIDTH = 3000, 4000
ROUNDS = 5


def best(work: Callable[[], object]) -> float:
    """Seconds of the fastest of several rounds, after one that warms up."""
    work()
    times = []
    for _ in range(ROUNDS):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return min(times)


def apply(step: str, pixels: np.ndarray) -> Callable[[], object]:
    """The degradation's own function on samples of 12 megapixels."""
    parsed = parse_step(step, "degradation")
    arguments = parsed.arguments(as_picture(np.zeros((4, 4), np.uint8)))
    return lambda: parsed.method.function(pixels, np.random.default_rng(1), **arguments)


def noise(pixels: np.ndarray) -> None:
    """Noise against drawing its random numbers once, in one call on one thread."""
    rng, size = np.random.default_rng(2), pixels.size
    out = np.empty(size, np.float32)
    counts = pixels.ravel().astype(np.float64) * 10_000
    yardsticks = {
        "gaussian-noise sd=5%": lambda: rng.standard_normal(out=out, dtype=np.float32),
        "uniform-noise sd=5%": lambda: rng.random(size),
        "laplace-noise sd=5%": lambda: rng.laplace(size=size),
        "salt-pepper density=5%": lambda: rng.random(size),
        "impulse-noise density=5%": lambda: (rng.random(size), rng.random(size)),
        "poisson-noise photons=10000": lambda: rng.poisson(counts),
        "speckle contrast=0.2": lambda: rng.standard_gamma(25, size),
        "sensor-noise full-well=10000e read=5e": lambda: (
            rng.poisson(counts), rng.normal(size=size)
        ),
        "coloured-noise sd=5%": lambda: rng.standard_normal(out=out, dtype=np.float32),
    }  # fmt: skip
    print(f"\n{'noise on 12 megapixels':42} {'s':>7} {'drawing':>8} {'ratio':>6}  (at most 1.5)")
    for step, yardstick in yardsticks.items():
        ours, drawing = best(apply(step, pixels)), best(yardstick)
        print(f"{step:42} {ours:7.3f} {drawing:8.3f} {ours / drawing:6.2f}")


def blur(pixels: np.ndarray) -> None:
    """Blur against SciPy's separable filter of the same support."""
    print(f"\n{'blur of 12 megapixels':42} {'s':>7} {'scipy':>8} {'ratio':>6}  (at most 2)")
    for step, support in {
        "gaussian-blur sigma=0.8": 9, "gaussian-blur sigma=2": 19, "gaussian-blur sigma=20": 181,
        "box-blur size=5": 5, "box-blur size=31": 31, "defocus radius=3": 7,
        "defocus radius=12.5": 25, "motion-blur length=15 angle=30": 15,
    }.items():  # fmt: skip
        line = gaussian_kernel(support / 6, support // 2)

        def separable(line: np.ndarray = line) -> object:
            rows = ndimage.correlate1d(pixels, line, axis=0)
            return ndimage.correlate1d(rows, line, axis=1)

        ours, theirs = best(apply(step, pixels)), best(separable)
        print(f"{step:42} {ours:7.3f} {theirs:8.3f} {ours / theirs:6.2f}")


def similarity(pixels: np.ndarray) -> None:
    """SSIM against five of SciPy's Gaussian filters in float64, and the whole panel, in seconds."""
    x = pixels.astype(np.float64)
    y = x + np.random.default_rng(3).normal(0, 0.05, x.shape)
    ours = best(lambda: ssim(x, y))
    filters = best(lambda: [ndimage.gaussian_filter(x, 1.5) for _ in range(5)])
    print(f"\nssim of 12 megapixels {ours:.3f} s, five Gaussian filters {filters:.3f} s,", end=" ")
    print(f"ratio {ours / filters:.3f}  (at most 0.06)")


def panel() -> None:
    """All metrics and the default ones of a 12-megapixel colour pair, in seconds, and memory."""
    rng = np.random.default_rng(4)
    y, x = np.mgrid[:HEIGHT, :WIDTH]
    tone = 110 + 60 * np.sin(x / 300) * np.cos(y / 170) + rng.normal(0, 10, x.shape)
    clean = np.stack([tone, 0.9 * tone, 0.8 * tone], axis=-1).clip(0, 255).astype(np.uint8)
    worn = (clean + rng.normal(0, 8, clean.shape)).clip(0, 255).astype(np.uint8)
    print(f"\n{'score of a 12-megapixel colour pair':42} {'s':>7}")
    for metrics, limit in ((DEFAULT_METRICS, 3), ("all", 60)):
        magnetite.score(clean[:400, :400], worn[:400, :400], metrics)
        start = time.perf_counter()
        magnetite.score(clean, worn, metrics)
        print(f"{metrics:42} {time.perf_counter() - start:7.2f}  (at most {limit})")
    used = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20
    print(f"{'most memory of this process until now':42} {used:7.2f} GiB  (at most 4)")


def calibration(picture: Picture) -> None:
    """Photon transfer of a 12-megapixel pair, in seconds."""
    step = "sensor-noise full-well=9000e read=15e"
    frames = [magnetite.degrade(picture, step, seed=seed).picture for seed in (1, 2)]
    seconds = best(lambda: photon_transfer(frames))
    print(f"\ncalibrate noise on two frames of 12 megapixels: {seconds:.2f} s  (at most 5)")


def whole(picture: Picture) -> None:
    """The whole `degrade`, certificate and storing included, in seconds."""
    print(f"\n{'degrade with its certificate, 12 megapixels':50} {'s':>7}")
    for chain in ("gaussian-noise sd=5%", "gaussian-blur sigma=2", "quantize bits=4"):
        print(f"{chain:50} {best(lambda chain=chain: magnetite.degrade(picture, chain)):7.2f}")


def main() -> None:
    y, x = np.mgrid[:HEIGHT, :WIDTH].astype(np.float32)
    pixels = (0.5 + 0.4 * np.sin(x / 300) * np.cos(y / 170)).astype(np.float32)
    picture = as_picture(np.rint(pixels * 65535).astype(np.uint16))
    noise(pixels)
    blur(pixels)
    similarity(pixels)
    panel()
    calibration(picture)
    whole(picture)


if __name__ == "__main__":
    main()
