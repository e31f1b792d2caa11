"""Additive noise, independent from sample to sample."""

from __future__ import annotations

import math
from functools import partial

import numpy as np

from magnetite.core.arrays import Pixels, Samples
from magnetite.core.compute.random import Sampler, draw, normal, uniform
from magnetite.core.degrade._strength import (
    STRENGTH,
    Channels,
    Mean,
    MeanSquare,
    Psnr,
    Sd,
    Snr,
    depends_on_signal,
    noise_sd,
)
from magnetite.core.degrade.certify.noise import LAPLACE, NORMAL, UNIFORM, survey_additive
from magnetite.core.methods.catalogue import ColourPolicy, degradation

_BOVIK = "Bovik (ed.), The Essential Guide to Image Processing (2009), chapter 7"
_GONZALEZ = "Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 5.2"


#: Noise that is added, of any distribution.
_additive = partial(
    degradation,
    colour=ColourPolicy.JOINT,
    one_of=STRENGTH,
    reach=0,
    draws_by="shape",
    statistics=depends_on_signal,
)


@_additive(
    "gaussian-noise",
    summary="Add independent normal noise to every sample.",
    source=_GONZALEZ,
    survey=survey_additive(NORMAL),
)
def gaussian_noise(
    pixels: Pixels,
    rng: np.random.Generator,
    *,
    sd: Sd = None,
    variance: MeanSquare = None,
    psnr: Psnr = None,
    snr: Snr = None,
    mean: Mean = 0.0,
    channels: Channels = "independent",
) -> Pixels:
    """Add `mean + sd n`, n normal with mean 0 and standard deviation 1.

    Not clipped.
    """
    strength = noise_sd(pixels, sd=sd, variance=variance, psnr=psnr, snr=snr, mean=mean)
    return _added(pixels, rng, normal, strength, mean, channels)


@_additive(
    "uniform-noise",
    summary="Add independent noise, evenly distributed about its mean.",
    source=_GONZALEZ,
    survey=survey_additive(UNIFORM),
)
def uniform_noise(
    pixels: Pixels,
    rng: np.random.Generator,
    *,
    sd: Sd = None,
    variance: MeanSquare = None,
    psnr: Psnr = None,
    snr: Snr = None,
    mean: Mean = 0.0,
    channels: Channels = "independent",
) -> Pixels:
    """Add `mean + sd √12 (u - 1/2)`, u even on 0 to 1: it reaches √3 sd to either side.

    Not clipped.
    """
    strength = noise_sd(pixels, sd=sd, variance=variance, psnr=psnr, snr=snr, mean=mean)
    return _added(pixels, rng, _centred_uniform, strength, mean, channels)


@_additive(
    "laplace-noise",
    summary="Add independent noise of the two-sided exponential distribution: heavy tails.",
    source=_BOVIK,
    survey=survey_additive(LAPLACE),
)
def laplace_noise(
    pixels: Pixels,
    rng: np.random.Generator,
    *,
    sd: Sd = None,
    variance: MeanSquare = None,
    psnr: Psnr = None,
    snr: Snr = None,
    mean: Mean = 0.0,
    channels: Channels = "independent",
) -> Pixels:
    """Add `mean + sd (e1 - e2) / √2`, e1 and e2 exponential with mean 1.

    The density falls as `exp(-√2 |x| / sd)`. Not clipped.
    """
    strength = noise_sd(pixels, sd=sd, variance=variance, psnr=psnr, snr=snr, mean=mean)
    return _added(pixels, rng, _double_exponential, strength, mean, channels)


def _added(
    pixels: Pixels,
    rng: np.random.Generator,
    sampler: Sampler,
    sd: float,
    mean: float,
    channels: Channels,
) -> Pixels:
    shared = channels == "common" and pixels.ndim == 3
    noise = draw(rng, (*pixels.shape[:2], 1) if shared else pixels.shape, sampler)
    noise *= np.float32(sd)
    if mean:
        noise += np.float32(mean)
    if shared or pixels.dtype != noise.dtype:
        return pixels + noise
    noise += pixels
    return noise


def _centred_uniform(rng: np.random.Generator, out: Samples) -> None:
    uniform(rng, out)
    out -= np.float32(0.5)
    out *= np.float32(math.sqrt(12))


def _double_exponential(rng: np.random.Generator, out: Samples) -> None:
    rng.standard_exponential(out=out, dtype=np.float32)
    out -= rng.standard_exponential(out.size, dtype=np.float32)
    out *= np.float32(math.sqrt(0.5))
