"""Gauges of sharpness."""

from __future__ import annotations

from magnetite.core.calibrate.slanted_edge import measure_edge
from magnetite.core.errors import PictureError
from magnetite.core.metrics.gradient import laplacian
from magnetite.core.picture import Pixels, as_picture
from magnetite.core.registry import ColourPolicy, gauge


@gauge(
    "laplacian-variance",
    summary="Variance of the four-neighbour Laplacian, on the dn scale of 8 bits; more is sharper.",
    colour=ColourPolicy.LUMA,
    source=(
        "Pech-Pacheco, Cristobal, Chamorro-Martinez and Fernandez-Valdivia, ICPR 2000, "
        "doi:10.1109/ICPR.2000.903548"
    ),
    unit="dn²",
    smallest="3x3",
)
def laplacian_variance(pixels: Pixels, peak: float = 1.0) -> float:
    """Population variance of `up + down + left + right - 4 centre` over the inner samples.

    Parameters
    ----------
    pixels : array, shape (h, w) or (h, w, 3); RGB is reduced to luma (BT.601)
    peak : float
        Full scale of the array; the result is that of the same picture at full scale 255.

    Returns
    -------
    float
        In dn² of 8 bits, 0 or larger; grows with noise as well as with sharpness.

    Raises
    ------
    PictureError
        If the array is smaller than 3x3 or has neither one nor three channels.
    """
    height, width = pixels.shape
    if min(height, width) < 3:
        raise PictureError(f"laplacian-variance needs at least 3x3 samples, not {width}x{height}")
    return float(laplacian(pixels).var() * (255 / peak) ** 2)


@gauge(
    "mtf50",
    summary="Frequency at which a slanted edge keeps half its contrast; the edge is found by "
    "itself.",
    colour=ColourPolicy.LUMA,
    source="ISO 12233:2017, annex D",
    unit="c/px",
    smallest="40x28",
)
def mtf50(pixels: Pixels, peak: float = 1.0) -> float:
    """MTF50 of the best slanted edge in the picture (see `calibrate.slanted_edge`).

    Parameters
    ----------
    pixels : array, shape (h, w) or (h, w, 3); RGB is reduced to luma (BT.601)
        Linear: proportional to light.
    peak : float
        Full scale of the array.

    Returns
    -------
    float
        In cycles per px along the edge's normal, 0 to 1.

    Raises
    ------
    PictureError
        If no slanted edge is found, or contrast never falls to half.
    """
    found = measure_edge(as_picture(pixels / peak, "this picture")).mtf50
    if found is None:
        raise PictureError("mtf50: the edge keeps more than half of its contrast up to 1 c/px")
    return found
