"""Gauges of tone."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.gauges.noise_level import diagonal_counts, noise_of_counts, noise_wavelet
from magnetite.core.methods.amplitudes import SampleStep
from magnetite.core.methods.catalogue import ColourPolicy, gauge
from magnetite.core.methods.sums import Part, Sums, Totals, moments, pooled, quotient, variance
from magnetite.core.picture.least_size import check_size

_GONZALEZ = "Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 3.3"
_BINS = 256
#: Percentiles between which a picture's range lies.
_RANGE = (0.1, 99.9)


def _sum(pixels: Pixels) -> Totals:
    return float(pixels.sum(dtype=np.float64)), pixels.size


@gauge(
    "mean",
    summary="Mean of all samples of all channels.",
    colour=ColourPolicy.JOINT,
    source=_GONZALEZ,
    unit="dn",
    values="0 to 255",
    sums=Sums(_sum, quotient),
)
def mean(pixels: Pixels) -> float:
    """Arithmetic mean over all samples of all channels, in the array's unit."""
    return quotient(_sum(pixels))


def _sd(totals: Totals) -> float:
    return math.sqrt(variance(totals))


@gauge(
    "sd",
    summary="Standard deviation of the samples, mean over the channels.",
    colour=ColourPolicy.EACH,
    source=_GONZALEZ,
    unit="dn",
    values="0 to 127.5",
    sums=Sums(moments, _sd, combine=pooled),
)
def sd(pixels: Pixels) -> float:
    """Population standard deviation of each channel, in the array's unit."""
    return _sd(moments(pixels))


def _counts(pixels: Pixels, peak: float) -> Totals:
    """How often each of 256 levels comes."""
    numbers = np.rint(pixels * ((_BINS - 1) / peak)).clip(0, _BINS - 1).astype(np.intp)
    return (np.bincount(numbers.ravel(), minlength=_BINS),)


def _bits(totals: Totals) -> float:
    """Entropy of a distribution by its counts."""
    (counts,) = totals
    share = counts[counts > 0] / counts.sum()
    return max(0.0, -float((share * np.log2(share)).sum()))


@gauge(
    "entropy",
    summary="Bits a sample of the histogram, mean over the channels.",
    colour=ColourPolicy.EACH,
    source="Cover and Thomas, Elements of Information Theory, 2nd ed. (2006), chapter 2",
    unit="bit",
    values="0 to 8",
    clips=True,
    sums=Sums(_counts, _bits),
)
def entropy(pixels: Pixels, peak: float = 1.0) -> float:
    """`-Σ p log2 p` over 256 bins centred on the digital numbers of 8 bits; 0 to 8 bits."""
    return _bits(_counts(pixels, peak))


def _black(pixels: Pixels) -> Totals:
    return int(np.count_nonzero(pixels <= 0)), pixels.size


def _white(pixels: Pixels, peak: float) -> Totals:
    return int(np.count_nonzero(pixels >= peak)), pixels.size


@gauge(
    "black-share",
    summary="Share of samples at black or below.",
    colour=ColourPolicy.JOINT,
    source=_GONZALEZ,
    unit="share",
    values="0 to 1",
    sums=Sums(_black, quotient),
)
def black_share(pixels: Pixels) -> float:
    """Share of all samples of all channels that are 0 or less; 0 to 1."""
    return quotient(_black(pixels))


@gauge(
    "white-share",
    summary="Share of samples at full scale or above.",
    colour=ColourPolicy.JOINT,
    source=_GONZALEZ,
    unit="share",
    values="0 to 1",
    sums=Sums(_white, quotient),
)
def white_share(pixels: Pixels, peak: float = 1.0) -> float:
    """Share of all samples of all channels that are at full scale or more; 0 to 1."""
    return quotient(_white(pixels, peak))


def _range_over_noise(totals: Totals, peak: float, step: float) -> float:
    numbers = totals[1]
    position = np.asarray(_RANGE) / 100 * (numbers.sum() - 1)
    reached = np.cumsum(numbers)
    below, above = (
        np.searchsorted(reached, k(position), side="right") for k in (np.floor, np.ceil)
    )
    low, high = (below + (above - below) * (position - np.floor(position))) * step * peak
    return _decibels(float(high - low), noise_of_counts(totals, peak, step))


def _decibels(span: float, noise: float) -> float:
    if span <= 0:
        return 0.0
    return max(0.0, 20 * math.log10(span / noise)) if noise > 0 else math.inf


@gauge(
    "dynamic-range",
    summary="Range that the picture fills over its noise: 20 log10(range / sd).",
    colour=ColourPolicy.EACH,
    source="ISO 15739:2023, clause 6, with the picture's own range and noise",
    unit="dB",
    values="0 to ∞",
    smallest="2x2",
    sums=Sums(diagonal_counts, _range_over_noise, digital=True),
)
def dynamic_range(
    pixels: Pixels, peak: float = 1.0, *, step: Annotated[float | None, SampleStep()] = None
) -> float:
    """`20 log10((p99.9 - p0.1) / noise)`, percentiles of the samples, noise by `noise-wavelet`.

    6.02 dB to a stop; 0 for a flat picture, infinity where the noise lies below the resolution of
    `noise-wavelet`.
    """
    low, high = np.percentile(pixels, _RANGE)
    return _decibels(float(high - low), noise_wavelet(pixels, peak, step=step))


def _steps(pixels: Pixels, part: Part) -> Totals:
    own = pixels[: part.rows]
    total = sum(float(np.abs(np.diff(x, axis=a)).sum()) for x, a in ((pixels, 0), (own, 1)))
    return total, own.size


@gauge(
    "activity",
    summary="Mean absolute step between neighbours: the information to code.",
    colour=ColourPolicy.LUMA,
    source="Saha and Vemuri, IEEE ISCAS 2000, doi:10.1109/ISCAS.2000.856055",
    unit="dn",
    values="0 to 510",
    smallest="2x2",
    sums=Sums(_steps, quotient, overlap=1, all_rows=True),
)
def activity(pixels: Pixels) -> float:
    """`(Σ |x[i+1, j] - x[i, j]| + Σ |x[i, j+1] - x[i, j]|) / (h w)`, on luma."""
    check_size("activity", pixels, 2)
    return quotient(_steps(pixels, Part(len(pixels))))
