"""The demo's scenes by name."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from magnetite.core.errors import InputError
from magnetite.core.picture import Picture, as_picture, luma
from magnetite.synthetic import chart, rocks, tray
from magnetite.synthetic.fields import Field

DEFAULT_SIZE = (640, 448)
SMALLEST = (96, 72)
LARGEST = (8192, 8192)


@dataclass(frozen=True)
class Scene:
    """A scene: its name, its content in words, and the function that makes its RGB samples."""

    name: str
    summary: str
    make: Callable[[int, int, np.random.Generator], Field]
    bits: int = 8
    gray: bool = False

    def picture(self, width: int, height: int, seed: int) -> Picture:
        """The scene at a size, for a seed."""
        rng = np.random.default_rng([seed, *self.name.encode()])
        samples = self.make(width, height, rng)
        if self.gray:
            samples = luma(samples)
        dtype = np.uint8 if self.bits <= 8 else np.uint16
        blank = as_picture(np.zeros(samples.shape, dtype))
        picture, _ = blank.with_pixels(samples)
        return Picture(picture.samples, picture.bits, picture.colour, self.name)


def _tray_of(rock: tray.Rock) -> Callable[[int, int, np.random.Generator], Field]:
    return lambda width, height, rng: tray.photograph(rock, width, height, rng)


SCENES = (
    Scene("banded-ironstone", "core of tilted iron and chert bands", _tray_of(rocks.ironstone)),
    Scene("veined-breccia", "core of clasts healed by quartz veins", _tray_of(rocks.breccia)),
    Scene("chart-plate", "test chart", lambda width, height, rng: chart.plate(width, height)),
    Scene("speckled-granite", "core of small crystals", _tray_of(rocks.granite), gray=True),
    Scene("clay-core", "smooth core", _tray_of(rocks.clay), bits=16, gray=True),
)


def scenes(size: tuple[int, int] = DEFAULT_SIZE, seed: int = 0) -> dict[str, Picture]:
    """All scenes by name, at a size of (width, height) in px; see `make_scenes`.

    Examples
    --------
    >>> import magnetite
    >>> sorted(magnetite.scenes((96, 72)))
    ['banded-ironstone', 'chart-plate', 'clay-core', 'speckled-granite', 'veined-breccia']
    """
    names = [scene.name for scene in SCENES]
    return dict(zip(names, make_scenes(size, seed), strict=True))


def make_scenes(size: tuple[int, int] = DEFAULT_SIZE, seed: int = 0) -> list[Picture]:
    """All scenes at a size of (width, height).

    Raises
    ------
    InputError
        If the size is out of bounds or the seed negative.
    """
    width, height = size
    if not (SMALLEST[0] <= width <= LARGEST[0] and SMALLEST[1] <= height <= LARGEST[1]):
        raise InputError(
            f"scenes of {width}x{height} cannot be made; from {SMALLEST[0]}x{SMALLEST[1]} "
            f"to {LARGEST[0]}x{LARGEST[1]} they can"
        )
    if seed < 0:
        raise InputError(f"a seed is 0 or larger, not {seed}")
    return [scene.picture(width, height, seed) for scene in SCENES]
