"""Metrics of sample error."""

from __future__ import annotations

import math

import numpy as np

from magnetite.core.picture import Pixels
from magnetite.core.registry import ColourPolicy, metric

_SOURCE = "Wang and Bovik, IEEE Signal Processing Magazine 26(1), 2009, doi:10.1109/MSP.2008.930649"


@metric(
    "mse",
    summary="Mean squared error.",
    colour=ColourPolicy.JOINT,
    source=_SOURCE,
    unit="dn²",
    better="lower",
    identical=0.0,
)
def mse(reference: Pixels, test: Pixels, peak: float = 1.0) -> float:
    """Mean over all samples of all channels of `(reference - test)²`.

    Parameters
    ----------
    reference, test : arrays of the same shape, (h, w) or (h, w, n), any scale
    peak : float
        Full scale; not used by this metric.

    Returns
    -------
    float
        In the square of the arrays' unit. Pictures are scored on the scale of 8 bits
        (full scale 255), so that depths compare.

    Raises
    ------
    PictureError
        If the shapes differ.
    """
    difference = reference - test
    return float(np.vdot(difference, difference) / difference.size)


@metric(
    "rmse",
    summary="Root of the mean squared error.",
    colour=ColourPolicy.JOINT,
    source=_SOURCE,
    unit="dn",
    better="lower",
    identical=0.0,
)
def rmse(reference: Pixels, test: Pixels, peak: float = 1.0) -> float:
    """Square root of `mse`, in the arrays' unit; arguments and errors as there."""
    return math.sqrt(mse(reference, test, peak))


@metric(
    "psnr",
    summary="Peak signal-to-noise ratio; the peak is the picture's full scale.",
    colour=ColourPolicy.JOINT,
    source=_SOURCE,
    unit="dB",
    better="higher",
    identical=math.inf,
    tolerance=0.01,
)
def psnr(reference: Pixels, test: Pixels, peak: float = 1.0) -> float:
    """`10 log10(peak² / mse)` in dB, the error taken over all samples of all channels.

    Parameters
    ----------
    reference, test : arrays of the same shape, (h, w) or (h, w, n)
    peak : float
        Full scale of the arrays: 1.0, 255 for 8 bits, 65535 for 16.

    Returns
    -------
    float
        In dB; infinity for identical arrays.

    Raises
    ------
    PictureError
        If the shapes differ.
    """
    error = mse(reference, test, peak)
    return math.inf if error == 0 else 10 * math.log10(peak**2 / error)
