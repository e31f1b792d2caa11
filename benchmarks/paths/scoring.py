"""Scores of arrays in memory."""

from __future__ import annotations

import numpy as np
from measure import Work, case

import magnetite
from magnetite.core.metrics.structure import ssim
from paths import yardsticks
from paths.pictures import colour, gray, worn


@case(
    "ssim, gray",
    yardstick="five SciPy Gaussian filters, float64",
    goal=0.02, size=12, sizes=(0.4, 1, 4),
)  # fmt: skip
def similarity(megapixels: float) -> tuple[Work, Work]:
    x, y = gray(megapixels).samples, worn(gray(megapixels)).samples
    return lambda: ssim(x, y, 255), yardsticks.gaussians(x.astype(np.float64), 5)


@case(
    "score mse,psnr,ssim, gray",
    yardstick="two casts to float32",
    goal=5, size=12, sizes=(0.4, 1, 4),
)  # fmt: skip
def panel(megapixels: float) -> tuple[Work, Work]:
    x, y = gray(megapixels), worn(gray(megapixels))
    return lambda: magnetite.score(x, y), yardsticks.casts(x)


@case(
    "score mse,psnr,ssim, colour",
    yardstick="decoding both PNG files with Pillow",
    goal=0.6, size=12, sizes=(0.4, 1, 4), channels=3, rounds=3,
)  # fmt: skip
def colour_panel(megapixels: float) -> tuple[Work, Work]:
    x, y = colour(megapixels), worn(colour(megapixels))
    return lambda: magnetite.score(x, y), yardsticks.decoding(x, y)


@case(
    "score all, colour",
    yardstick="100 SciPy Gaussian filters of a plane, float32",
    goal=0.3, size=4, sizes=(0.4, 1), channels=3, rounds=3, quick=False,
)  # fmt: skip
def every_metric(megapixels: float) -> tuple[Work, Work]:
    x, y = colour(megapixels), worn(colour(megapixels))
    plane = x.samples[..., 0].astype(np.float32)
    return lambda: magnetite.score(x, y, "all"), yardsticks.gaussians(plane, 100)
