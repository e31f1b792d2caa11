"""Whether what separates two pictures is mere noise, or has a structure of its own."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from magnetite.core.metrics.sizes import check_size
from magnetite.core.picture import Pixels
from magnetite.core.registry import ColourPolicy, metric

#: Displacements (rows, columns) within 2 px, one of each pair of opposite ones.
LAGS = (
    (0, 1), (0, 2), (1, -2), (1, -1), (1, 0), (1, 1), (1, 2),
    (2, -2), (2, -1), (2, 0), (2, 1), (2, 2),
)  # fmt: skip
_SOURCE = (
    "Box and Pierce, J. American Statistical Association 65, 1970, "
    "doi:10.1080/01621459.1970.10481180, applied to displacements in two dimensions"
)


@metric(
    "residual-structure",
    summary="How much the difference correlates with itself nearby: 0 like white noise.",
    colour=ColourPolicy.LUMA,
    source=_SOURCE,
    unit="",
    values="0 to 1",
    better="lower",
    identical=0.0,
    smallest="8x8",
)
def residual_structure(reference: Pixels, test: Pixels, peak: float = 1.0) -> float:
    """Rms of the difference's autocorrelation over the 12 displacements within 2 px, on luma.

    Parameters
    ----------
    reference, test : arrays of the same shape, (h, w) or (h, w, 3)
    peak : float
        Not used.

    Returns
    -------
    float
        0 to 1. White noise gives about 1 / √n for n samples; a difference that holds edges or
        is smooth gives more. 0 for identical arrays.

    Raises
    ------
    PictureError
        If the picture is smaller than 8x8.
    """
    return math.sqrt(float(np.mean(_autocorrelation(reference - test)[0] ** 2)))


@metric(
    "residual-whiteness",
    summary="Chance that white noise looks as structured as the difference does (p-value).",
    colour=ColourPolicy.LUMA,
    source=_SOURCE,
    unit="p",
    values="0 to 1",
    better="higher",
    identical=1.0,
    smallest="8x8",
)
def residual_whiteness(reference: Pixels, test: Pixels, peak: float = 1.0) -> float:
    """Share of chi-square of 12 degrees of freedom above `Σ n r²`, on luma.

    r are the autocorrelations of `residual_structure`, n the pairs of samples behind each.
    Below 0.001 the difference is no white noise: detail was lost, or noise was smoothed.

    Returns
    -------
    float
        0 to 1; 1 for identical arrays.
    """
    from scipy.stats import chi2

    correlations, pairs = _autocorrelation(reference - test)
    return float(chi2.sf(float((pairs * correlations**2).sum()), len(LAGS)))


def _autocorrelation(difference: Pixels) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Correlation at each displacement, and the number of pairs."""
    height, width = difference.shape
    check_size("the residual's test", difference, 8)
    residual = difference - difference.mean()
    power = float(np.vdot(residual, residual)) / residual.size
    correlations, pairs = np.zeros(len(LAGS)), np.zeros(len(LAGS))
    for i, (down, across) in enumerate(LAGS):
        here = residual[: height - down, max(0, -across) : width - max(0, across)]
        there = residual[down:, max(0, across) : width - max(0, -across)]
        pairs[i] = here.size
        if power > 0:
            correlations[i] = float(np.einsum("ij,ij", here, there)) / here.size / power
    return correlations, pairs
