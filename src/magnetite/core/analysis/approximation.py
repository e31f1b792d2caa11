"""How well few numbers stand for a picture, before anything is quantized or coded."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.codecs.layers.blocks import Blocks
from magnetite.core.codecs.layers.terms import break_even
from magnetite.core.errors import PictureError

#: Larger pictures take too long to decompose.
_MOST_PIXELS = 2**23
_BLOCK = 8
#: Ranks whose pictures are shown.
_RANKS = (1, 3, 10, 30, 100)


@dataclass(frozen=True)
class Approximation:
    """Of a plane in full-scale units: the error of keeping few of its numbers.

    `values` are its singular values; `rank_error[k]` the rms error of the best picture of rank
    k, in full scale; `variance[k]` the share of variance that k principal components of 8x8 patches
    keep; `block_error[i]` and `whole_error[i]` the rms errors where only the share `shares[i]` of
    the largest coefficients is kept, of the 8x8 cosine transform and of the whole picture's Fourier
    transform. Beyond the rank `break_even` the factors hold more numbers than the picture.
    """

    values: Float64
    rank_error: Float64
    break_even: float
    variance: Float64
    shares: Float64
    block_error: Float64
    whole_error: Float64
    #: Ranks, and the best picture of each, full-scale units.
    ranks: tuple[int, ...]
    pictures: tuple[Float64, ...]


def approximate(plane: Pixels) -> Approximation:
    """All of it for one plane, shape (h, w), on full-scale units.

    Eckart and Young (1936): the best picture of rank k misses the tail of the singular values.
    Parseval: leaving coefficients of an orthonormal transform out costs their squares.

    Raises
    ------
    PictureError
        If the plane has more than 2^23 samples.
    """
    from scipy.fft import dctn, fft2
    from scipy.linalg import svd

    if plane.size > _MOST_PIXELS:
        raise PictureError(
            f"{plane.size} px take too long to decompose, at most {_MOST_PIXELS} are: "
            "take a region, or a smaller picture"
        )
    samples = np.asarray(plane, np.float64)
    height, width = samples.shape
    left, values, right = svd(samples, full_matrices=False)
    ranks = tuple(rank for rank in _RANKS if rank <= values.size)
    blocks = Blocks(height, width, (_BLOCK, _BLOCK)).forward(samples)  # type: ignore[arg-type]
    patches = blocks.reshape(-1, blocks.shape[2] * blocks.shape[3])
    spread = np.linalg.eigvalsh(np.atleast_2d(np.cov(patches, rowvar=False, bias=True)))[::-1]
    total = float(spread.sum())
    kept = np.concatenate([[0.0], np.cumsum(spread)]) / total if total > 0 else np.ones(2)
    shares = np.geomspace(0.001, 1, 61)
    return Approximation(
        values,
        np.sqrt(_tails(values**2) / samples.size),
        break_even(height, width),
        kept.clip(0, 1),
        shares,
        _share_errors(dctn(blocks, axes=(2, 3), norm="ortho"), shares),
        _share_errors(fft2(samples, norm="ortho"), shares),
        ranks,
        tuple((left[:, :k] * values[:k]) @ right[:k] for k in ranks),
    )


def _tails(squares: Float64) -> Float64:
    """Remainder after the first k, for k from 0 to all."""
    return np.concatenate([np.cumsum(squares[::-1])[::-1], [0.0]])


def _share_errors(coefficients: NDArray[np.generic], shares: Float64) -> Float64:
    squares = np.sort(np.abs(coefficients).ravel() ** 2)[::-1]
    counts = np.rint(shares * squares.size).astype(int)
    return np.asarray(np.sqrt(_tails(squares)[counts] / squares.size), np.float64)
