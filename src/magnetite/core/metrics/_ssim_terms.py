"""The terms of structural similarity in every window, from its moments.

Equations 6, 9 and 10 of Wang, Bovik, Sheikh and Simoncelli (2004), with C3 = C2 / 2. Where
both sides of a fraction are 0, the windows agree and it is 1.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.compute.bands import by_bands
from magnetite.core.metrics.kernels.moments import Moments, fraction

Term = Callable[[Moments, float, float], Float64]


def term_map(term: Term, moments: Moments, c1: float, c2: float) -> Float64:
    """One term in every window, computed in bands."""
    return by_bands(lambda *parts: term(Moments(*parts), c1, c2), *moments)


def luminance(m: Moments, c1: float, c2: float) -> Float64:
    """`(2 mx my + C1) / (mx² + my² + C1)`."""
    mx, my = m.mean_x, m.mean_y
    return fraction(2 * mx * my + c1, mx * mx + my * my + c1)


def contrast_structure(m: Moments, c1: float, c2: float) -> Float64:
    """`(2 sxy + C2) / (sx² + sy² + C2)`, the product of the other two terms."""
    return fraction(2 * m.covariance + c2, m.variance_x + m.variance_y + c2)


def contrast(m: Moments, c1: float, c2: float) -> Float64:
    """`(2 sx sy + C2) / (sx² + sy² + C2)`."""
    roots = np.sqrt(m.variance_x * m.variance_y)
    return fraction(2 * roots + c2, m.variance_x + m.variance_y + c2)


def structure(m: Moments, c1: float, c2: float) -> Float64:
    """`(sxy + C3) / (sx sy + C3)`."""
    roots = np.sqrt(m.variance_x * m.variance_y)
    return fraction(m.covariance + c2 / 2, roots + c2 / 2)


def similarity(m: Moments, c1: float, c2: float) -> Float64:
    """SSIM itself: the product of all terms."""
    return luminance(m, c1, c2) * contrast_structure(m, c1, c2)
