"""Gauges of noise."""

from __future__ import annotations

import math

import numpy as np

from magnetite.core.metrics.sizes import check_size
from magnetite.core.picture import Pixels
from magnetite.core.registry import ColourPolicy, gauge

#: Median of |n| for a standard normal n.
_NORMAL_MEDIAN = 0.6744897501960817


@gauge(
    "noise-wavelet",
    summary="Noise sd by the median of the finest diagonal wavelet coefficients.",
    colour=ColourPolicy.EACH,
    source="Donoho and Johnstone, Biometrika 81(3), 1994, doi:10.1093/biomet/81.3.425",
    unit="dn",
    values="0 and up",
    smallest="2x2",
)
def noise_wavelet(pixels: Pixels, peak: float = 1.0) -> float:
    """`median(|d|) / 0.6745`, d the Haar coefficients `(a - b - c + e) / 2` of 2x2 samples.

    An odd last row or column is left out. Fine texture counts as noise as far as it fills more
    than half of the picture.

    Parameters
    ----------
    pixels : array, shape (h, w) or (h, w, n); of several channels the mean of their figures
    peak : float
        Full scale of the array.

    Returns
    -------
    float
        In dn of 8 bits, 0 or larger.

    Raises
    ------
    PictureError
        If the picture is smaller than 2x2.
    """
    check_size("noise-wavelet", pixels, 2)
    rows, columns = (n // 2 * 2 for n in pixels.shape)
    p = pixels[:rows, :columns]
    diagonal = (p[::2, ::2] - p[::2, 1::2] - p[1::2, ::2] + p[1::2, 1::2]) / 2
    return float(np.median(np.abs(diagonal))) / _NORMAL_MEDIAN * 255 / peak


@gauge(
    "noise-mask",
    summary="Noise sd by a mask that edges and slopes do not excite.",
    colour=ColourPolicy.EACH,
    source="Immerkaer, Computer Vision and Image Understanding 64(2), 1996, "
    "doi:10.1006/cviu.1996.0060",
    unit="dn",
    values="0 and up",
    smallest="3x3",
)
def noise_mask(pixels: Pixels, peak: float = 1.0) -> float:
    """`√(π/2) / 6 mean |x * M|`, M = [1 -2 1; -2 4 -2; 1 -2 1], over the inner samples.

    Parameters
    ----------
    pixels : array, shape (h, w) or (h, w, n); of several channels the mean of their figures
    peak : float
        Full scale of the array.

    Returns
    -------
    float
        In dn of 8 bits, 0 or larger; thin lines and texture add to it.

    Raises
    ------
    PictureError
        If the picture is smaller than 3x3.
    """
    check_size("noise-mask", pixels, 3)
    across = pixels[:, :-2] - 2 * pixels[:, 1:-1] + pixels[:, 2:]
    both = across[:-2] - 2 * across[1:-1] + across[2:]
    return float(np.abs(both).mean()) * math.sqrt(math.pi / 2) / 6 * 255 / peak


@gauge(
    "impulse-share",
    summary="Share of samples at black or full scale that stand out from their neighbours.",
    colour=ColourPolicy.EACH,
    source="after Wang and Zhang, IEEE Trans. Circuits and Systems II 46(1), 1999, "
    "doi:10.1109/82.749102",
    unit="share",
    values="0 to 1",
    smallest="3x3",
)
def impulse_share(pixels: Pixels, peak: float = 1.0) -> float:
    """Share of samples that are 0 or full scale and 20 % of it away from their 3x3 median.

    Parameters
    ----------
    pixels : array, shape (h, w) or (h, w, n); of several channels the mean of their figures
    peak : float
        Full scale of the array.

    Returns
    -------
    float
        0 to 1. Salt and pepper is found where it is sparse enough for the median to be right.

    Raises
    ------
    PictureError
        If the picture is smaller than 3x3.
    """
    from scipy.ndimage import median_filter

    check_size("impulse-share", pixels, 3)
    extreme = (pixels <= 0) | (pixels >= peak)
    away = np.abs(pixels - median_filter(pixels, size=3, mode="reflect")) > 0.2 * peak
    return float((extreme & away).mean())
