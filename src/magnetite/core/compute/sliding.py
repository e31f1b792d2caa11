"""Thresholding of the cosine transform in 8x8 blocks at all positions, averaged."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float32
from magnetite.core.compute.bands import shares
from magnetite.core.compute.threads import each

#: Rows and columns that a sample's blocks reach on every side.
REACH = 7


def thresholded(plane: Float32, least: float, *, weighted: bool = False) -> Float32:
    """Mean over all 8x8 blocks of what is left where coefficients below `least` become 0.

    Parameters
    ----------
    plane : float32 array, shape (h, w)
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
    from magnetite.core.compute.cosine import threshold_band, weighted_band

    band = weighted_band if weighted else threshold_band
    padded = np.pad(plane, REACH, mode="symmetric")
    result = np.empty(plane.shape, np.float32)
    each(
        lambda part: band(padded, part.start, np.float32(least), result[part]),
        shares(plane.shape[0]),
    )
    return result
