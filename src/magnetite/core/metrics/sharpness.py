"""Gauges of sharpness."""

from __future__ import annotations

from magnetite.core.errors import PictureError
from magnetite.core.picture import Pixels
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
    centre = pixels[1:-1, 1:-1]
    neighbours = pixels[:-2, 1:-1] + pixels[2:, 1:-1] + pixels[1:-1, :-2] + pixels[1:-1, 2:]
    return float((neighbours - 4 * centre).var() * (255 / peak) ** 2)
