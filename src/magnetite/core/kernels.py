"""Convolution kernels that degradations, restorations and metrics share."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from magnetite.core.picture import Pixels

#: The Gaussian is cut where less than 1e-5 of its weight lies outside.
GAUSSIAN_REACH = 4.5


def gaussian_kernel(sigma: float, radius: int | None = None) -> NDArray[np.float64]:
    """Sampled Gaussian of standard deviation `sigma` px with unit sum, shape (2 radius + 1,).

    The default radius is `ceil(4.5 sigma)`; beyond it lies less than 1e-5 of the weight.
    """
    if radius is None:
        radius = math.ceil(GAUSSIAN_REACH * sigma)
    if sigma == 0:
        return np.ones(1)
    x = np.arange(-radius, radius + 1)
    kernel = np.exp(-0.5 * (x / sigma) ** 2)
    return np.asarray(kernel / kernel.sum())


def kernel_sd(kernel: NDArray[np.float64]) -> float:
    """Standard deviation of a centred kernel's weights, in px: the blur it really applies."""
    x = np.arange(kernel.size) - kernel.size // 2
    return math.sqrt(float(kernel @ x**2))


def gaussian_filter(plane: Pixels, sigma: float) -> Pixels:
    """Separable Gaussian filter of one plane, mirrored at the edges (half-sample symmetric).

    Parameters
    ----------
    plane : float array, shape (h, w)
    sigma : float
        Standard deviation in px; 0 returns a copy.

    Returns
    -------
    float array, shape (h, w), the dtype of `plane`.
    """
    from scipy.ndimage import correlate1d

    kernel = gaussian_kernel(sigma)
    rows = correlate1d(plane, kernel, axis=0, mode="reflect")
    return np.asarray(correlate1d(rows, kernel, axis=1, mode="reflect"), dtype=plane.dtype)
