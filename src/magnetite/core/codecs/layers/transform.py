"""Transform layer: blocks of samples to blocks of coefficients."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float32, Float64
from magnetite.core.compute.basis import cosines
from magnetite.core.compute.threads import threads

#: Numbers, and sides of blocks, up to which products with matrices are taken.
_SMALL, _SHORT = 2**18, 32


@dataclass(frozen=True)
class CosineTransform:
    """Orthonormal DCT-II of each block (Ahmed, Natarajan and Rao 1974).

    Being orthonormal, it keeps energy: the squared error of the coefficients is that of the
    samples (Parseval). Either way works in place: the blocks given are overwritten.
    """

    def forward(self, blocks: Float32) -> Float32:
        if _is_small(blocks):
            return _by_matrices(blocks, *(cosines(side) for side in blocks.shape[2:]))
        from scipy.fft import dctn

        return np.asarray(
            dctn(blocks, axes=(2, 3), norm="ortho", overwrite_x=True, workers=threads())
        )

    def backward(self, blocks: Float32) -> Float32:
        if _is_small(blocks):
            return _by_matrices(blocks, *(cosines(side).T for side in blocks.shape[2:]))
        from scipy.fft import idctn

        return np.asarray(
            idctn(blocks, axes=(2, 3), norm="ortho", overwrite_x=True, workers=threads())
        )


def _is_small(blocks: Float32) -> bool:
    """Whether products with matrices take less time than loading SciPy's transforms."""
    return blocks.size <= _SMALL and max(blocks.shape[2:]) <= _SHORT


def _by_matrices(blocks: Float32, down: Float64, across: Float64) -> Float32:
    """Products with a basis on both sides of each block, in place."""
    blocks[...] = down.astype(np.float32) @ blocks @ across.T.astype(np.float32)
    return blocks
