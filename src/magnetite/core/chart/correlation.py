"""Correlation of the noise of even patches over a few px."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np

from magnetite.core.arrays import Float64

#: Lags, px, over which the correlation of the noise is summed.
_LAGS = 4
#: Smallest ratio of variances: sharpened noise has negative correlations.
_LEAST_VARIANCE = 0.05


def detrended(plane: Float64) -> Float64:
    """Samples less their plane (least squares)."""
    y, x = np.indices(plane.shape, np.float64)
    design = np.stack([np.ones(plane.size), x.ravel(), y.ravel()], axis=1)
    values = np.linalg.lstsq(design, plane.ravel(), rcond=None)[0]
    return np.asarray(plane - (design @ values).reshape(plane.shape))


def correlations(residual: Float64) -> Iterator[tuple[tuple[int, int], float]]:
    """Lags down and across, each of a pair of opposite ones, and the correlation at them.

    Parameters
    ----------
    residual : float array, shape (h, w)
        Noise of mean 0, not all 0.
    """
    power = float((residual**2).mean())
    height, width = residual.shape
    for down in range(min(_LAGS, height - 1) + 1):
        for across in range(-min(_LAGS, width - 1), min(_LAGS, width - 1) + 1):
            if (down, across) <= (0, 0):
                continue
            one = residual[down:, max(0, across) : width + min(0, across)]
            other = residual[: height - down, max(0, -across) : width - max(0, across)]
            yield (down, across), float((one * other).mean()) / power


def variance_of_means(residuals: Iterable[Float64]) -> float:
    """Variance of the mean of many samples of noise over that of white noise; patches (h, w).

    One more than twice the sum of the correlations, averaged over patches; 1 without noise.
    """
    # Samples less their plane lack three degrees of freedom: at short lags a share 3 / n of each.
    sums = [
        sum(value + 3 / one.size for _, value in correlations(one))
        for one in residuals
        if one.any()
    ]
    return max(_LEAST_VARIANCE, 1 + 2 * float(np.mean(sums))) if sums else 1.0
