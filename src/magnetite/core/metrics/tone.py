"""Gauges of tone."""

from __future__ import annotations

import numpy as np

from magnetite.core.picture import Pixels
from magnetite.core.registry import ColourPolicy, gauge

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
def mean(pixels: Pixels, peak: float = 1.0) -> float:
    """Arithmetic mean over all samples of all channels, in dn of 8 bits."""
    return float(pixels.mean()) * 255 / peak


@gauge(
    "sd",
    summary="Standard deviation of the samples, mean over the channels.",
    colour=ColourPolicy.EACH,
    source=_GONZALEZ,
    unit="dn",
    values="0 to 127.5",
)
def sd(pixels: Pixels, peak: float = 1.0) -> float:
    """Population standard deviation of each channel, in dn of 8 bits."""
    return float(pixels.std()) * 255 / peak


@gauge(
    "entropy",
    summary="Bits a sample of the histogram, mean over the channels.",
    colour=ColourPolicy.EACH,
    source="Cover and Thomas, Elements of Information Theory, 2nd ed. (2006), chapter 2",
    unit="bit",
    values="0 to 8",
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
def black_share(pixels: Pixels, peak: float = 1.0) -> float:
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
