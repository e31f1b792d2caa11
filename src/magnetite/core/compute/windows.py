"""Convolution kernels that degradations, restorations and metrics share."""

from __future__ import annotations

import math

import numpy as np

from magnetite.core.arrays import Float64

#: The Gaussian is cut where less than 1e-5 of its weight lies outside.
GAUSSIAN_REACH = 4.5


def gaussian_kernel(sigma: float, radius: int | None = None) -> Float64:
    """Sampled Gaussian of standard deviation `sigma` px with unit sum, shape (2 radius + 1,).

    The default radius is `ceil(4.5 sigma)`; beyond it lies less than 1e-5 of the weight.
    """
    if radius is None:
        radius = math.ceil(GAUSSIAN_REACH * sigma)
    if sigma == 0:
        return np.ones(1)
    x = np.arange(-radius, radius + 1)
    # Far out the weight is 0; squares of larger distances would overflow.
    kernel = np.exp(-0.5 * np.minimum(np.abs(x) / sigma, 100.0) ** 2)
    return np.asarray(kernel / kernel.sum())


def kernel_sd(kernel: Float64) -> float:
    """Sd of a centred kernel's weights, shape (n,), in px: the blur it really applies."""
    x = np.arange(kernel.size) - kernel.size // 2
    return math.sqrt(float(kernel @ x**2))
