"""Transform layer: blocks of samples to blocks of coefficients."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float32
from magnetite.core.compute.threads import threads


@dataclass(frozen=True)
class CosineTransform:
    """Orthonormal DCT-II of each block (Ahmed, Natarajan and Rao 1974).

    Being orthonormal, it keeps energy: the squared error of the coefficients is that of the
    samples (Parseval). Either way works in place: the blocks given are overwritten.
    """

    def forward(self, blocks: Float32) -> Float32:
        from scipy.fft import dctn

        return np.asarray(
            dctn(blocks, axes=(2, 3), norm="ortho", overwrite_x=True, workers=threads())
        )

    def backward(self, blocks: Float32) -> Float32:
        from scipy.fft import idctn

        return np.asarray(
            idctn(blocks, axes=(2, 3), norm="ortho", overwrite_x=True, workers=threads())
        )
