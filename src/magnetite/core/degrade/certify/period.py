"""Period of stripes, measured."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from magnetite.core.arrays import Float64, Pixels

#: Periods that a picture must hold: of a sine; of a wave with harmonics.
_LEAST_SINE, _LEAST_OTHER = 0.5, 4.0


def measured_period(stripes: Pixels, near: float, angle: float, sine: bool) -> float | None:
    """Period at which a sine fits stripes best, px; None where too few of them are seen.

    The sum of squares that a sine of frequency f explains, `v G⁻¹ v` with v the projections on
    cosine and sine and G their products, is greatest at the true frequency. It is searched for
    within half a period in the picture around the one expected.

    Parameters
    ----------
    stripes : array, shape (h, w)
    near : float
        Period expected, px.
    angle : float
        Direction in which the brightness varies, degrees counter-clockwise from the x axis.
    sine : bool
        Whether the wave has no harmonics.
    """
    from scipy.optimize import minimize_scalar

    height, width = stripes.shape
    across, down = math.cos(math.radians(angle)), -math.sin(math.radians(angle))
    extent = abs(width * across) + abs(height * down)
    if extent < (_LEAST_SINE if sine else _LEAST_OTHER) * near or not np.any(stripes):
        return None
    x, y = np.arange(width) * across, np.arange(height) * down

    def unexplained(frequency: float) -> float:
        along_x, along_y = (np.exp(2j * math.pi * frequency * axis) for axis in (x, y))
        projection = complex(along_y @ stripes @ along_x)
        products = complex((along_x**2).sum() * (along_y**2).sum())
        gram = _gram(stripes.size, products)
        v = np.array([projection.real, projection.imag])
        return -float(v @ np.linalg.lstsq(gram, v, rcond=None)[0])

    bounds = 1 / near - 0.5 / extent, 1 / near + 0.5 / extent
    found: Any = minimize_scalar(
        unexplained, bounds=bounds, method="bounded", options={"xatol": 1e-9}
    )
    return float(1 / found.x)


def _gram(size: int, products: complex) -> Float64:
    """Products of cosine and sine by the sum of the squared exponentials."""
    return np.array([
        [size + products.real, products.imag], [products.imag, size - products.real],
    ]) / 2  # fmt: skip
