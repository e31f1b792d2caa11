"""Degradations with their certificates."""

from __future__ import annotations

import numpy as np
from measure import Work, case

import magnetite
from magnetite.core.chain.named import find_chain
from magnetite.core.degrade.mosaic import demosaic
from paths import yardsticks
from paths.pictures import colour, gray, plane, shape


@case(
    "degrade gaussian-noise sd=5%, certified",
    yardstick="drawing the numbers once",
    goal=2.5, size=12, sizes=(0.4, 1, 4),
)  # fmt: skip
def noise(megapixels: float) -> tuple[Work, Work]:
    picture = gray(megapixels)
    size = int(np.prod(shape(megapixels)))
    return lambda: magnetite.degrade(picture, "gaussian-noise sd=5%"), yardsticks.drawing(size)


@case(
    "degrade gaussian-blur sigma=2, certified",
    yardstick="SciPy's Gaussian filter, float32",
    goal=0.8, size=12, sizes=(0.4, 1, 4),
)  # fmt: skip
def blur(megapixels: float) -> tuple[Work, Work]:
    picture = gray(megapixels)
    yardstick = yardsticks.gaussians(plane(megapixels), sigma=2)
    return lambda: magnetite.degrade(picture, "gaussian-blur sigma=2"), yardstick


@case(
    "degrade quantize bits=4, certified",
    yardstick="two casts to float32",
    goal=8, size=12, sizes=(0.4, 1, 4),
)  # fmt: skip
def quantization(megapixels: float) -> tuple[Work, Work]:
    picture = gray(megapixels)
    return lambda: magnetite.degrade(picture, "quantize bits=4"), yardsticks.casts(picture)


@case(
    "demosaic, directional",
    yardstick="SciPy's Gaussian filter of three planes, float32",
    goal=3, size=12, sizes=(0.4, 1, 4),
)  # fmt: skip
def interpolation(megapixels: float) -> tuple[Work, Work]:
    mosaic = plane(megapixels)
    return lambda: demosaic(mosaic), yardsticks.gaussians(mosaic, count=3)


@case(
    "degrade survey-camera, from light to file",
    yardstick="its steps, each alone",
    goal=2, size=12, sizes=(0.4, 1, 4),
)  # fmt: skip
def camera(megapixels: float) -> tuple[Work, Work]:
    picture = colour(megapixels)
    chain = find_chain("survey-camera")
    assert chain is not None
    steps = chain.text({}).split(" + ")

    def apart() -> None:
        seen = picture
        for step in steps:
            seen = magnetite.degrade(seen, step, overflow="keep").picture

    return lambda: magnetite.degrade(picture, "survey-camera"), apart
