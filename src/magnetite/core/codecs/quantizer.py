"""Quantizer layer: coefficients to whole numbers; the only layer that loses anything."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from magnetite.core.errors import PictureError

#: Whole numbers beyond this are refused; they would mean more than 24 bits a coefficient.
LARGEST = 2**24


@dataclass(frozen=True)
class UniformQuantizer:
    """Rounds to multiples of a step (mid-tread) and multiplies back."""

    step: float

    def forward(self, stacks: list[NDArray[np.float32]]) -> list[NDArray[np.int32]]:
        numbers = []
        for stack in stacks:
            rounded = np.rint(stack / np.float32(self.step))
            if np.abs(rounded).max() > LARGEST:
                raise PictureError(
                    f"the quantizer step is too small for this picture: a coefficient is "
                    f"{float(np.abs(rounded).max()):.3g} steps, at most {LARGEST} are coded"
                )
            numbers.append(rounded.astype(np.int32))
        return numbers

    def backward(self, stacks: list[NDArray[np.int32]]) -> list[NDArray[np.float32]]:
        return [stack.astype(np.float32) * np.float32(self.step) for stack in stacks]
