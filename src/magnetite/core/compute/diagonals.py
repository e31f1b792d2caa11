"""The finest diagonal coefficients of Haar's wavelet transform, in which noise is sought."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Bools, Pixels


def diagonals(pixels: Pixels) -> Pixels:
    """Haar's diagonal coefficients of 2x2 samples; an odd last row or column is left out."""
    a, b, c, e = _corners(pixels)
    return np.asarray((a - b - c + e) / 2)


def sizes_within(pixels: Pixels, ended: Bools) -> Pixels:
    """Sizes of the diagonal coefficients, without those of four clipped samples.

    These are 0 whatever the noise, as in the black surroundings of a picture; they are kept where
    there are no others. A choice of those without any clipped sample would take noise of one sign.

    Parameters
    ----------
    pixels : array, shape (h, w)
    ended : bool array, shape (h, w)
        Clipped samples.

    Returns
    -------
    array, shape (n,)
    """
    sizes, dead = np.abs(diagonals(pixels)), np.logical_and.reduce(_corners(ended))
    return np.asarray(sizes.ravel() if dead.all() else sizes[~dead])


def _corners(plane: NDArray[Any]) -> tuple[NDArray[Any], ...]:
    """The four samples of each 2x2, as four planes."""
    rows, columns = (n // 2 * 2 for n in plane.shape)
    p = plane[:rows, :columns]
    return p[::2, ::2], p[::2, 1::2], p[1::2, ::2], p[1::2, 1::2]
