"""Blur of known width."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from magnetite.core.degrade.certificate import Change, Finding, rms_change
from magnetite.core.kernels import gaussian_filter, gaussian_kernel, kernel_sd
from magnetite.core.parameters import Length
from magnetite.core.picture import Pixels
from magnetite.core.registry import ColourPolicy, degradation


def _certify_sigma(change: Change, *, sigma: float) -> list[Finding]:
    applied = kernel_sd(gaussian_kernel(sigma))
    return [Finding("kernel sd", "px", sigma, applied), rms_change(change)]


@degradation(
    "gaussian-blur",
    summary="Convolve with a Gaussian, mirrored at the edges.",
    colour=ColourPolicy.EACH,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 3.5",
    certify=_certify_sigma,
)
def gaussian_blur(
    pixels: Pixels,
    _rng: np.random.Generator | None = None,
    *,
    sigma: Annotated[float, Length(0, 200)],
) -> Pixels:
    """Convolve with a sampled Gaussian of unit sum, cut at 4.5 sigma, mirrored at the edges.

    Below about 0.7 px a sampled Gaussian is narrower than its name says; the certificate
    gives the standard deviation of the kernel as applied.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
    sigma : float
        Standard deviation in px, 0 to 200; 0 changes nothing.

    Returns
    -------
    float array of the same shape and dtype.
    """
    return gaussian_filter(pixels, sigma)
