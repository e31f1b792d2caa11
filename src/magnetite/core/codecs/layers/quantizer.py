"""Quantizer layer: coefficients to whole numbers; the only layer that loses anything."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float32, Int32
from magnetite.core.errors import PictureError

#: Whole numbers beyond this are refused; they would mean more than 24 bits a coefficient.
LARGEST = 2**24
#: Table K.1 of ITU-T T.81 over its first entry: relative steps for luminance at 8x8 frequencies.
T81 = np.array(
    [
        [16, 11, 10, 16, 24, 40, 51, 61], [12, 12, 14, 19, 26, 58, 60, 55],
        [14, 13, 16, 24, 40, 57, 69, 56], [14, 17, 22, 29, 51, 87, 80, 62],
        [18, 22, 37, 56, 68, 109, 103, 77], [24, 35, 55, 64, 81, 104, 113, 92],
        [49, 64, 78, 87, 103, 121, 120, 101], [72, 92, 95, 98, 112, 100, 103, 99],
    ]
) / 16  # fmt: skip


@dataclass(frozen=True)
class Selection:
    """Which coefficients of a block are coded at all.

    `zone` is the largest frequency, √((row / height)² + (column / width)²); `threshold` the
    least magnitude, of full scale; `keep` the share of all that are kept, the largest.
    """

    zone: float = math.inf
    threshold: float = 0.0
    keep: float = 1.0

    def of(self, stack: Float32) -> Float32:
        """The coefficients, shape (…, h, w), with 0 for those that are left out."""
        if self.zone >= math.sqrt(2) and self.threshold == 0 and self.keep >= 1:
            return stack
        height, width = stack.shape[-2:]
        row, column = np.indices((height, width))
        zone = np.hypot(row / height, column / width) <= self.zone
        chosen = np.where(zone & (np.abs(stack) >= self.threshold), stack, np.float32(0))
        if self.keep < 1:
            count = max(1, round(self.keep * stack.size))
            sizes = np.abs(chosen).ravel()
            least = np.partition(sizes, sizes.size - count)[sizes.size - count]
            chosen = np.where(np.abs(chosen) >= least, chosen, np.float32(0))
        return chosen


@dataclass(frozen=True)
class Quantizer:
    """Divides coefficients, shape (rows, columns, h, w), by a step and rounds.

    The step is the same for all frequencies or follows T.81's table. With `optimise`, numbers are
    lowered where that saves more rate than it costs in error (see `rdo`).
    """

    step: float
    weighted: bool = False
    optimise: bool = True
    selection: Selection = Selection()

    def _steps(self, height: int, width: int) -> Float32:
        if not self.weighted:
            return np.full((height, width), self.step, np.float32)
        from scipy.ndimage import map_coordinates

        row, column = np.indices((height, width))
        positions = np.array([row * (7 / max(1, height - 1)), column * (7 / max(1, width - 1))])
        return np.asarray(map_coordinates(T81, positions, order=1) * self.step, np.float32)

    def forward(self, blocks: Float32) -> Int32:
        scaled = self.selection.of(blocks) / self._steps(*blocks.shape[2:])
        check_range(scaled)
        if not self.optimise:
            return np.asarray(np.rint(scaled), np.int32)
        from magnetite.core.codecs.entropy.rdo import quantize

        return quantize(scaled)

    def backward(self, blocks: Int32) -> Float32:
        return blocks.astype(np.float32) * self._steps(*blocks.shape[2:])


def check_range(scaled: Float32) -> None:
    """Raise `PictureError` if a coefficient, in steps, any shape, is too large to be coded."""
    largest = max(float(scaled.max()), -float(scaled.min()))
    if largest > LARGEST:
        raise PictureError(
            f"the quantizer step is too small for this picture: a coefficient is "
            f"{largest:.3g} steps, at most {LARGEST} are coded"
        )
