"""Standard errors of figures, from those without each part of the data."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float64


def jackknife_error(without: Float64) -> Float64:
    """Standard errors `√((n - 1) / n Σ (x - mean)²)` of figures without each of n parts in turn.

    Efron and Stein, Annals of Statistics 9(3), 1981, doi:10.1214/aos/1176345462.

    Parameters
    ----------
    without : float64 array, shape (n, ...)

    Returns
    -------
    float64 array, shape (...)
        NaN for figures that are not known without some part.
    """
    count = len(without)
    squares = np.sum((without - without.mean(axis=0)) ** 2, axis=0)
    return np.asarray(np.sqrt((count - 1) / count * squares), np.float64)
