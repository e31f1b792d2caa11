"""Stack layer: planes that follow one another in time, depth or wavelength, transformed across."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import product

import numpy as np

from magnetite.core.arrays import Float32
from magnetite.core.errors import PictureError


@dataclass(frozen=True)
class AcrossPlanes:
    """Orthonormal DCT-II of each sample across groups of planes.

    Together with the transform of blocks within a plane that is the transform of blocks of three
    or four dimensions, since it is separable. The last group of an axis may be smaller.

    Parameters
    ----------
    shape : tuple of int
        How the planes are arranged: their number, or of an array of four dimensions the lengths
        of its last two axes.
    sides : tuple of int
        Planes of a group along each axis of `shape`.

    Raises
    ------
    PictureError
        If there are more sides than axes.
    """

    shape: tuple[int, ...]
    sides: tuple[int, ...]

    def __post_init__(self) -> None:
        if len(self.sides) > len(self.shape):
            raise PictureError(
                f"the block has {len(self.sides) + 2} sides and the picture "
                f"{len(self.shape) + 2} axes: give one side for each, or name the arrangement of "
                "the planes, as in stack=4x6"
            )

    @property
    def names(self) -> list[str]:
        """Names of the transformed planes in reports: their frequencies."""
        frequencies = [
            [position % side for position in range(length)]
            for length, side in zip(self.shape, self._whole_sides, strict=True)
        ]
        return ["frequency " + ".".join(map(str, one)) for one in product(*frequencies)]

    @property
    def _whole_sides(self) -> tuple[int, ...]:
        return (*self.sides, *([1] * (len(self.shape) - len(self.sides))))

    def forward(self, planes: list[Float32]) -> list[Float32]:
        from scipy.fft import dct

        return self._across(planes, lambda x, axis: dct(x, axis=axis, norm="ortho"))

    def backward(self, planes: list[Float32]) -> list[Float32]:
        from scipy.fft import idct

        return self._across(planes, lambda x, axis: idct(x, axis=axis, norm="ortho"))

    def _across(self, planes: list[Float32], transform: object) -> list[Float32]:
        stack = np.stack(planes).reshape(*self.shape, *planes[0].shape)
        for axis, side in enumerate(self._whole_sides):
            lines = np.moveaxis(stack, axis, 0)
            for start in range(0, lines.shape[0], side):
                lines[start : start + side] = transform(lines[start : start + side], 0)  # type: ignore[operator]
        return list(stack.reshape(math.prod(self.shape), *planes[0].shape))
