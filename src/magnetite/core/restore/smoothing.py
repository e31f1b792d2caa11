"""Local smoothing: each sample from its neighbours."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from magnetite.core.convolution import convolve_separable
from magnetite.core.kernels import gaussian_kernel
from magnetite.core.parameters import Count, Length
from magnetite.core.picture import Pixels
from magnetite.core.registry import ColourPolicy, restoration


@restoration(
    "median",
    summary="Replace each sample by the median of its square window.",
    colour=ColourPolicy.EACH,
    source="Tukey, Exploratory Data Analysis (1977), chapter 7",
)
def median(pixels: Pixels, *, size: Annotated[int, Count(1, 99, odd=True)] = 3) -> Pixels:
    """Median of a `size` x `size` window, mirrored at the edges.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
    size : int
        Side of the window in px, odd; 1 changes nothing.

    Returns
    -------
    float array of the same shape and dtype.
    """
    from scipy.ndimage import median_filter

    return np.asarray(median_filter(pixels, size=size, mode="reflect"))


@restoration(
    "gaussian",
    summary="Smooth with a Gaussian, mirrored at the edges.",
    colour=ColourPolicy.EACH,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 3.5",
)
def gaussian(pixels: Pixels, *, sigma: Annotated[float, Length(0, 200)] = 1.0) -> Pixels:
    """Weighted mean with Gaussian weights of unit sum, cut at 4.5 sigma, mirrored at the edges.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
    sigma : float
        Standard deviation in px; 0 changes nothing.

    Returns
    -------
    float array of the same shape and dtype.
    """
    return convolve_separable(pixels, gaussian_kernel(sigma))
