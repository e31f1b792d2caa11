"""The gauge of blur that reads edges where they stand."""

from __future__ import annotations

import math

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.compute.filters import convolve_separable
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.errors import PictureError
from magnetite.core.gauges.noise_level import noise_mask, noise_wavelet
from magnetite.core.methods.catalogue import ColourPolicy, gauge
from magnetite.core.metrics.kernels.sizes import check_size

#: Least height of an edge, of full scale; and in sd of the picture's noise.
_LEAST, _NOISE_SDS = 0.1, 8.0
#: How far a rise may fall back, and how far noise takes its turning points beyond the plateaus,
#: in sd of the noise.
_FALL, _EXCESS = 2.0, 0.6
#: Pictures with more noise than this, of full scale, are smoothed by a Gaussian of this sd, px;
#: rise of a Gaussian edge from 10 % to 90 %, in its sd.
_NOISY, _SMOOTHING, _GAUSSIAN_RISE = 0.002, 1.5, 2.5631
#: Rise of a step from one sample to the next, px.
_SHARPEST = 0.7


@gauge(
    "edge-width",
    summary="Mean 10-90 % rise of all clear edges, across them; less is sharper.",
    colour=ColourPolicy.LUMA,
    source="Marziliano, Dufaux, Winkler and Ebrahimi, Signal Processing: Image Communication "
    "19(2), 2004, doi:10.1016/j.image.2003.08.003, with the rise of ISO 12233",
    unit="px",
    values="0.7 and up",
    smallest="8x8",
)
def edge_width(pixels: Pixels, peak: float = 1.0) -> float:
    """Mean distance between 10 % and 90 % of the height of edges, times the cosine of their tilt.

    Along rows where the gradient is nearer to them, else along columns, an edge is the steepest
    step of a rise (or fall) between two turning points that is at least 10 % of full scale and 8
    sd of the noise (`noise-mask` or `noise-wavelet`, whichever is less) high. Where there is
    noise of more than 0.2 % of full scale, the picture is smoothed by a Gaussian of 1.5 px, whose
    own rise is taken off in squares; a rise may fall back by 2 sd of what noise is left, and
    reaches 0.6 sd beyond its plateaus. Between samples runs a cubic through four of them (Catmull
    and Rom), so a step from one sample to the next has a rise of 0.71 px.

    Parameters
    ----------
    pixels : array, shape (h, w) or (h, w, 3); RGB is reduced to luma (BT.601)
    peak : float
        Full scale of the array.

    Returns
    -------
    float
        In px. Gaussian blur of sigma gives about 2.56 sigma at straight edges of even ground;
        from a sigma of 0.8 px on, noise of up to 3 % of full scale changes that by 4 % at most,
        noise of 5 % by 7 %.

    Raises
    ------
    PictureError
        If the picture has no such edge or is smaller than 8x8.
    """
    from magnetite.core.gauges.kernels.edge_profiles import rises

    check_size("edge-width", pixels, 8)
    plane: Pixels = np.asarray(pixels / peak, np.float64)
    # Thin lines excite the mask, and texture the median of wavelets: noise excites both.
    noise, own = min(noise_mask(plane), noise_wavelet(plane)), 0.0
    if noise > _NOISY:
        plane = convolve_separable(plane, gaussian_kernel(_SMOOTHING))
        noise /= 2 * math.sqrt(math.pi) * _SMOOTHING
        own = _GAUSSIAN_RISE * _SMOOTHING
    least = max(_LEAST, _NOISE_SDS * noise)
    total, count = 0.0, 0
    for lines, ties in ((plane, True), (plane.T, False)):
        found = rises(
            np.ascontiguousarray(lines, np.float64), least, _FALL * noise, _EXCESS * noise, ties
        )
        total, count = total + found[0], count + found[1]
    if count == 0:
        raise PictureError(f"edge-width: no edge rises by {least:.0%} of full scale")
    return max(_SHARPEST, math.sqrt(max(0.0, (total / count) ** 2 - own**2)))
