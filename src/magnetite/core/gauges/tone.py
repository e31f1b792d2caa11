"""Gauges of tone."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.gauges.noise_level import noise_wavelet
from magnetite.core.methods.amplitudes import SampleStep
from magnetite.core.methods.catalogue import ColourPolicy, gauge
from magnetite.core.metrics.kernels.sizes import check_size

_GONZALEZ = "Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 3.3"
_BINS = 256


@gauge(
    "mean",
    summary="Mean of all samples of all channels.",
    colour=ColourPolicy.JOINT,
    source=_GONZALEZ,
    unit="dn",
    values="0 to 255",
)
def mean(pixels: Pixels) -> float:
    """Arithmetic mean over all samples of all channels, in the array's unit."""
    return float(pixels.mean())


@gauge(
    "sd",
    summary="Standard deviation of the samples, mean over the channels.",
    colour=ColourPolicy.EACH,
    source=_GONZALEZ,
    unit="dn",
    values="0 to 127.5",
)
def sd(pixels: Pixels) -> float:
    """Population standard deviation of each channel, in the array's unit."""
    return float(pixels.std())


@gauge(
    "entropy",
    summary="Bits a sample of the histogram, mean over the channels.",
    colour=ColourPolicy.EACH,
    source="Cover and Thomas, Elements of Information Theory, 2nd ed. (2006), chapter 2",
    unit="bit",
    values="0 to 8",
    clips=True,
)
def entropy(pixels: Pixels, peak: float = 1.0) -> float:
    """`-Σ p log2 p` over 256 bins centred on the digital numbers of 8 bits; 0 to 8 bits."""
    numbers = np.rint(pixels * ((_BINS - 1) / peak)).clip(0, _BINS - 1).astype(np.intp)
    share = np.bincount(numbers.ravel()) / numbers.size
    held = share[share > 0]
    return max(0.0, -float((held * np.log2(held)).sum()))


@gauge(
    "black-share",
    summary="Share of samples at black or below.",
    colour=ColourPolicy.JOINT,
    source=_GONZALEZ,
    unit="share",
    values="0 to 1",
)
def black_share(pixels: Pixels) -> float:
    """Share of all samples of all channels that are 0 or less; 0 to 1."""
    return float((pixels <= 0).mean())


@gauge(
    "white-share",
    summary="Share of samples at full scale or above.",
    colour=ColourPolicy.JOINT,
    source=_GONZALEZ,
    unit="share",
    values="0 to 1",
)
def white_share(pixels: Pixels, peak: float = 1.0) -> float:
    """Share of all samples of all channels that are at full scale or more; 0 to 1."""
    return float((pixels >= peak).mean())


@gauge(
    "dynamic-range",
    summary="Range that the picture fills over its noise: 20 log10(range / sd).",
    colour=ColourPolicy.EACH,
    source="ISO 15739:2023, clause 6, with the picture's own range and noise",
    unit="dB",
    values="0 to ∞",
    smallest="2x2",
)
def dynamic_range(
    pixels: Pixels, peak: float = 1.0, *, step: Annotated[float | None, SampleStep()] = None
) -> float:
    """`20 log10((p99.9 - p0.1) / noise)`, percentiles of the samples, noise by `noise-wavelet`.

    Parameters
    ----------
    pixels : array, shape (h, w) or (h, w, n); of several channels the mean of their figures
    peak : float
        Full scale of the array.
    step : float, optional
        Distance of two digital numbers, of full scale, as in `noise_wavelet`.

    Returns
    -------
    float
        In dB, 6.02 dB to a stop; 0 for a flat picture, infinity where no noise is found.

    Raises
    ------
    PictureError
        If the picture is smaller than 2x2.
    """
    low, high = np.percentile(pixels, [0.1, 99.9])
    noise = noise_wavelet(pixels, peak, step=step)
    if high <= low:
        return 0.0
    return max(0.0, 20 * math.log10((high - low) / noise)) if noise > 0 else math.inf


@gauge(
    "activity",
    summary="Mean absolute step between neighbours: how much there is to code.",
    colour=ColourPolicy.LUMA,
    source="Saha and Vemuri, IEEE ISCAS 2000, doi:10.1109/ISCAS.2000.856055",
    unit="dn",
    values="0 to 510",
    smallest="2x2",
)
def activity(pixels: Pixels) -> float:
    """`(Σ |x[i+1, j] - x[i, j]| + Σ |x[i, j+1] - x[i, j]|) / (h w)`, in the array's unit, on luma.

    Raises
    ------
    PictureError
        If the picture is smaller than 2x2.
    """
    check_size("activity", pixels, 2)
    total = sum(float(np.abs(np.diff(pixels, axis=axis)).sum()) for axis in (0, 1))
    return total / pixels.size
