"""Deblocking layer: on decoding, steps at block borders that quantization explains are smoothed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float32

#: Largest step across a border that is taken for an artefact, and largest slope next to it, in
#: quantizer steps; coefficients' errors add up to less than that.
_STEP, _SLOPE = 0.6, 0.25


@dataclass(frozen=True)
class Deblocking:
    """Passes a plane through when coding; filters across the borders of blocks when decoding.

    Where the step across a border is below 0.6 quantizer steps and the slopes on both sides
    below 0.25, the two samples nearest to it on each side move towards each other (after List,
    Joch, Lainema, Bjontegaard and Karczewicz, IEEE Trans. Circuits and Systems for Video
    Technology 13(7), 2003, doi:10.1109/TCSVT.2003.815175).
    """

    step: float
    block: tuple[int, int]

    def forward(self, plane: Float32) -> Float32:
        return plane

    def backward(self, plane: Float32) -> Float32:
        self._smooth(plane, self.block[0])
        self._smooth(plane.T, self.block[1])
        return plane

    def _smooth(self, plane: Float32, side: int) -> None:
        """Across the borders between rows of blocks."""
        borders = np.arange(side, plane.shape[0] - 2, side)
        if side < 4 or borders.size == 0:
            return
        p1, p0, q0, q1 = (plane[borders + k] for k in (-2, -1, 0, 1))
        gap = q0 - p0
        even = np.maximum(np.abs(p0 - p1), np.abs(q1 - q0)) < _SLOPE * self.step
        move = np.where(even & (np.abs(gap) < _STEP * self.step), gap, np.float32(0))
        plane[borders - 2] = p1 + move * np.float32(0.125)
        plane[borders - 1] = p0 + move * np.float32(0.375)
        plane[borders] = q0 - move * np.float32(0.375)
        plane[borders + 1] = q1 - move * np.float32(0.125)
