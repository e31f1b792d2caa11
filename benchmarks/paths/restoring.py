"""Restorations beside SciPy's 5x5 median in float64."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from measure import Setting, Work, case

import magnetite
from magnetite.core.methods.catalogue import find
from paths import yardsticks
from paths.pictures import gray, noisy, worn

#: 512x512, nearly.
SQUARE = 0.262
SD = 25 / 255


def _restoration(name: str, goal: float, make: Callable[[float], np.ndarray], **settings: object):
    """A case of a restoration's own function."""
    words = " ".join([name, *(f"{k}={v}" for k, v in settings.items() if k != "sd")])

    def setting(megapixels: float) -> tuple[Work, Work]:
        samples, method = make(megapixels), find("restoration", name)
        return lambda: method.function(samples, **settings), yardsticks.median(noisy(megapixels))

    declared: Setting = case(
        words, yardstick="SciPy's 5x5 median, float64", goal=goal, size=SQUARE, sizes=(0.4, 1, 4),
    )(setting)  # fmt: skip
    return declared


def digital(megapixels: float) -> np.ndarray:
    """Noisy samples of 8 bits."""
    return worn(gray(megapixels), 25).pixels()


bm3d = _restoration("bm3d", 3.5, noisy, sd=SD)
means = _restoration("nl-means", 0.6, noisy, sd=SD)
sliding = _restoration("sliding-dct", 0.04, noisy, sd=SD)
median = _restoration("median", 0.005, digital, size=5)
variation = _restoration("total-variation", 2, noisy, sd=SD)
lucy = _restoration("richardson-lucy", 2, digital, sigma=1.0)


@case(
    "restore --aim psnr=best, bm3d, no reference",
    yardstick="a second",
    goal=30, size=0.393, rounds=1, quick=False,
)  # fmt: skip
def tuning(megapixels: float) -> tuple[Work, None]:
    dirty = worn(gray(megapixels), 25)
    return lambda: magnetite.restore(dirty, "bm3d sd=auto", aim="psnr=best"), None
