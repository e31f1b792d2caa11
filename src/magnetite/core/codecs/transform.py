"""Transform layer: blocks of samples to blocks of coefficients."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]


class CosineTransform:
    """Orthonormal DCT-II of each block (Ahmed, Natarajan and Rao 1974).

    Being orthonormal, it keeps energy: the squared error of the coefficients is that of the
    samples (Parseval).
    """

    def forward(self, stacks: list[Array]) -> list[Array]:
        from scipy.fft import dctn

        return [dctn(stack, axes=(1, 2), norm="ortho", workers=2) for stack in stacks]

    def backward(self, stacks: list[Array]) -> list[Array]:
        from scipy.fft import idctn

        return [idctn(stack, axes=(1, 2), norm="ortho", workers=2) for stack in stacks]
