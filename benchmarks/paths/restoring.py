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


def _as_called(goal: float, text: str) -> Setting:
    """A case of the public function, with the judgement of the residual."""

    def setting(megapixels: float) -> tuple[Work, Work]:
        picture = worn(gray(megapixels), 25)
        return lambda: magnetite.restore(picture, text), yardsticks.median(noisy(megapixels))

    declared: Setting = case(
        f'magnetite.restore(p, "{text}")', yardstick="SciPy's 5x5 median, float64", goal=goal,
        size=SQUARE,
    )(setting)  # fmt: skip
    return declared


_as_called(0.05, "median size=5")
_as_called(0.1, "sliding-dct sd=25dn")
_as_called(0.6, "nl-means sd=25dn")
_as_called(4.5, "bm3d sd=25dn")
_as_called(4, "tv-deblur sigma=1.0px strength=0.5%")


@case(
    "restore --aim psnr=best, bm3d, no reference",
    yardstick="a second",
    goal=30, size=0.393, rounds=1, quick=False,
)  # fmt: skip
def tuning(megapixels: float) -> tuple[Work, None]:
    dirty = worn(gray(megapixels), 25)
    return lambda: magnetite.restore(dirty, "bm3d sd=auto", aim="psnr=best"), None
