"""Thresholding of the cosine transform in 8x8 blocks at all positions, averaged."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float32
from magnetite.core.compute.bands import bands, shares
from magnetite.core.compute.threads import each

#: Rows of a band that is weighted.
_ROWS = 256
#: Rows and columns that a sample's blocks reach on every side.
REACH = 7


def thresholded(plane: Float32, least: float, *, weighted: bool = False) -> Float32:
    """Mean over all 8x8 blocks of the picture with coefficients below `least` set to 0.

    Parameters
    ----------
    plane : array, shape (h, w)
        Mirrored at the edges.
    least : float
        In the units of the plane; the mean of each block stays.
    weighted : bool
        Whether a block with n coefficients left has the weight 1 / n (Guleryuz, IEEE Trans. Image
        Processing 16(12), 2007, doi:10.1109/TIP.2007.908390), instead of all the same.

    Returns
    -------
    float32 array, shape (h, w)
    """
    from magnetite.core.compute.cosine import room_for, threshold_band, weighted_band

    padded = np.pad(np.asarray(plane, np.float32), REACH, mode="symmetric")
    result = np.empty(plane.shape, np.float32)
    size = np.float32(least)

    def work(part: slice) -> None:
        out = result[part]
        if weighted:
            weighted_band(padded, part.start, size, out, *room_for(*out.shape))
        else:
            threshold_band(padded, part.start, size, out)

    each(work, bands(plane.shape[0], _ROWS) if weighted else shares(plane.shape[0]))
    return result
