"""Whether the difference of two pictures is white noise, or structured."""

from __future__ import annotations

import math

import numpy as np

from magnetite.core.arrays import Float64, Mask, Pixels
from magnetite.core.compute.bands import bands
from magnetite.core.compute.sharing import shared
from magnetite.core.compute.threads import spread
from magnetite.core.methods.catalogue import ColourPolicy, metric
from magnetite.core.picture.least_size import check_size

#: Displacements (rows, columns) within 2 px, one of each pair of opposite ones.
LAGS = (
    (0, 1), (0, 2), (1, -2), (1, -1), (1, 0), (1, 1), (1, 2),
    (2, -2), (2, -1), (2, 0), (2, 1), (2, 2),
)  # fmt: skip
#: Share of the positions at least that must be clear; where fewer are, all of them count.
_LEAST_CLEAR = 0.1
#: Rows whose products stay in the cache.
_ROWS = 64
#: Differences up to this share of full scale are rounding errors.
_ROUNDING_ERROR = 1e-6
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
def residual_structure(
    reference: Pixels, test: Pixels, peak: float = 1.0, clear: Mask = None
) -> float:
    """Rms of the difference's autocorrelation over the 12 displacements within 2 px, on luma.

    Positions whose noise is clipped at black or full scale are left out, unless that is more than
    90 % of them: the mean of clipped noise follows the picture.

    White noise gives about 1 / √n for n samples, a difference that holds edges or is smooth more;
    0 where both differ by a constant.
    """
    return math.sqrt(
        float(np.mean(shared(_autocorrelation, reference, test, clear, peak=peak)[0] ** 2))
    )


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
def residual_whiteness(
    reference: Pixels, test: Pixels, peak: float = 1.0, clear: Mask = None
) -> float:
    """Share of chi-square of 12 degrees of freedom above `Σ n r²`, on luma.

    r are the autocorrelations of `residual_structure`, n the pairs of samples behind each.
    Below 0.001 the difference is not white noise: detail was lost, or noise was smoothed.
    """
    from scipy.special import chdtrc

    correlations, pairs = shared(_autocorrelation, reference, test, clear, peak=peak)
    return float(chdtrc(len(LAGS), float((pairs * correlations**2).sum())))


def _autocorrelation(
    reference: Pixels, test: Pixels, clear: Mask, peak: float
) -> tuple[Float64, Float64]:
    """Correlation at each displacement, and the number of pairs."""
    difference = reference - test
    height, width = difference.shape
    check_size("the residual's test", difference, 8)
    whole = clear is None or clear.mean() < _LEAST_CLEAR
    inside = np.ones(difference.shape) if whole else np.asarray(clear, np.float64)
    positions = float(inside.sum())
    residual = (difference - float(np.vdot(difference, inside)) / positions) * inside
    power = float(np.vdot(residual, residual)) / positions
    correlations, pairs = np.zeros(len(LAGS)), np.zeros(len(LAGS))
    # Nothing but rounding error is left of a constant.
    constant = float(np.abs(residual).max()) <= _ROUNDING_ERROR * peak
    if whole:
        pairs[:] = [(height - down) * (width - abs(across)) for down, across in LAGS]
    else:
        pairs[:] = _lagged(inside)
    if not constant:
        products = _lagged(residual)
        np.divide(products, pairs * power, out=correlations, where=pairs > 0)
    return correlations, pairs


def _lagged(plane: Float64) -> Float64:
    """Sum of the products of a plane with itself at each displacement."""
    height, width = plane.shape

    def work(rows: slice) -> list[float]:
        sums = []
        for down, across in LAGS:
            last = max(rows.start, min(rows.stop, height - down))
            left, right = max(0, -across), max(0, across)
            here = plane[rows.start : last, left : width - right]
            there = plane[rows.start + down : last + down, right : width - left]
            sums.append(float(np.einsum("ij,ij", here, there)))
        return sums

    return np.asarray(np.sum(spread(work, bands(height, _ROWS)), axis=0))
