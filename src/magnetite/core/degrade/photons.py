"""Noise whose strength follows from the signal: photons, coherent light, whole sensors."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Annotated, Literal

import numpy as np

from magnetite.core.arrays import Float64, Pixels, Samples
from magnetite.core.compute.random import draw, fill, normal
from magnetite.core.degrade.certify.change import Change, Finding
from magnetite.core.degrade.certify.noise import NORMAL, fit_finding, moments
from magnetite.core.methods.amplitudes import Electrons
from magnetite.core.methods.catalogue import ColourPolicy, degradation
from magnetite.core.methods.parameters import Count, Number, Share

#: Samples darker than this are left out where the noise is judged relative to the signal.
_DARKEST = 0.01


def _certify_poisson(change: Change, *, photons: float) -> list[Finding]:
    expected = change.before.clip(0, None).astype(np.float64) * photons
    difference = change.drawn * np.float64(photons) - expected
    total = float(expected.sum())
    if total == 0:
        return []
    power = float(np.vdot(difference, difference))
    # Of Poisson counts of mean m the squared deviation has variance 2 m² + m.
    error = math.sqrt(float((2 * expected**2 + expected).sum())) / total
    return [
        Finding("variance per mean, in photons", "", 1.0, power / total, None, error),
        Finding(
            "mean, in photons", "photons", total / expected.size,
            (total + float(difference.sum())) / expected.size, None,
            math.sqrt(total) / expected.size,
        ),
    ]  # fmt: skip


@degradation(
    "poisson-noise",
    summary="Replace every sample by a Poisson count of photons: shot noise alone.",
    colour=ColourPolicy.JOINT,
    source="Janesick, Photon Transfer (2007), chapter 3, doi:10.1117/3.725073",
    certify=_certify_poisson,
    reach=0,
)
def poisson_noise(
    pixels: Pixels, rng: np.random.Generator, *, photons: Annotated[float, Number(1, 1e9)]
) -> Pixels:
    """Replace x by `k / photons`, k a Poisson count of mean `photons x`.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
        Samples below 0 count as 0.
    rng : numpy.random.Generator
    photons : float
        Mean count at full scale, 1 to 1e9; the signal-to-noise ratio there is its root.

    Returns
    -------
    float array of the same shape and dtype; not clipped.
    """

    def count(child: np.random.Generator, piece: Samples, out: Samples) -> None:
        out[:] = child.poisson(piece.clip(0, None) * np.float64(photons)) / photons

    return _transformed(pixels, rng, count)


def _certify_speckle(change: Change, *, contrast: float, distribution: str) -> list[Finding]:
    usable = change.before > _DARKEST
    ratio = (change.drawn[usable] / change.before[usable]).reshape(1, -1)
    if ratio.size == 0 or contrast == 0:
        return []
    cumulative = NORMAL.cumulative if distribution == "gaussian" else _gamma_function(contrast)
    measured = moments(ratio, cumulative, 1.0, contrast)
    root = math.sqrt(ratio.size)
    excess = 6 * contrast**2 if distribution == "gamma" else 0.0
    stored = change.stored[usable] / change.before[usable]
    return [
        Finding(
            "contrast", "of the signal", contrast, measured.sd, float(stored.std()),
            contrast * math.sqrt((2 + excess) / 4) / root,
        ),
        Finding("mean factor", "", 1.0, measured.mean, float(stored.mean()), contrast / root),
        Finding("skewness", "", None, measured.skewness),
        fit_finding(distribution, measured.distance, root),
    ]  # fmt: skip


def _gamma_function(contrast: float) -> Callable[[Float64], Float64]:
    def cumulative(z: Float64) -> Float64:
        from scipy.special import gammainc

        factor = (1 + contrast * z).clip(0, None)
        return np.asarray(gammainc(1 / contrast**2, factor / contrast**2))

    return cumulative


@degradation(
    "speckle",
    summary="Multiply every sample by a random factor of mean 1.",
    colour=ColourPolicy.JOINT,
    source="Goodman, Speckle Phenomena in Optics, 2nd ed. (2020), chapter 4, doi:10.1117/3.2548484",
    certify=_certify_speckle,
    reach=0,
)
def speckle(
    pixels: Pixels,
    rng: np.random.Generator,
    *,
    contrast: Annotated[float, Share()],
    distribution: Literal["gamma", "gaussian"] = "gamma",
) -> Pixels:
    """Multiply by a factor of mean 1 and standard deviation `contrast`.

    A gamma factor of shape `1 / contrast²` is intensity speckle averaged over as many looks;
    contrast 1 is fully developed speckle.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
    rng : numpy.random.Generator
    contrast : float
        Standard deviation of the factor, 0 to 1.
    distribution : "gamma" or "gaussian"

    Returns
    -------
    float array of the same shape and dtype; not clipped.
    """
    if contrast == 0:
        return pixels.copy()
    looks = contrast**-2

    def factor(child: np.random.Generator, out: Samples) -> None:
        if distribution == "gamma":
            child.standard_gamma(looks, out=out, dtype=np.float32)
            out /= np.float32(looks)
        else:
            normal(child, out)
            out *= np.float32(contrast)
            out += np.float32(1)

    return pixels * draw(rng, pixels.shape, factor)


def _certify_sensor(
    change: Change,
    *,
    full_well: float,
    read: float,
    prnu: float,
    dsnu: float,
    row: float,
    **_: float,
) -> list[Finding]:
    expected = change.before.clip(0, None).astype(np.float64) * full_well
    difference = change.drawn * np.float64(full_well) - expected
    variance = expected + read**2 + dsnu**2 + row**2 + (prnu * expected) ** 2
    if not variance.any():
        return []
    size, width = difference.size, difference.shape[1]
    mean_variance = float(variance.mean())
    # The rows' own offsets are shared by all samples of a row and count once.
    spread = 2 * float(np.vdot(variance, variance)) + float(expected.sum())
    spread = spread / size**2 + 2 * row**4 / difference.shape[0]
    return [
        Finding(
            "noise sd", "e", math.sqrt(mean_variance),
            math.sqrt(float(np.vdot(difference, difference)) / size),
            math.sqrt(float(np.mean(np.square(change.stored * full_well - expected)))),
            math.sqrt(spread) / (2 * math.sqrt(mean_variance)),
        ),
        Finding("mean of the noise", "e", 0.0, float(difference.mean()), None, math.sqrt(
            mean_variance / size + row**2 / difference.shape[0]
        )),
        Finding(
            "sd of row means", "e",
            math.sqrt(row**2 + mean_variance / (width * max(1, difference[0, 0].size))),
            float(difference.reshape(difference.shape[0], -1).mean(axis=1).std()), None,
            row / math.sqrt(2 * difference.shape[0]) + math.sqrt(mean_variance / size),
        ),
    ]  # fmt: skip


@degradation(
    "sensor-noise",
    summary="Shot, read, row and fixed-pattern noise of an image sensor, in electrons.",
    colour=ColourPolicy.JOINT,
    source="EMVA Standard 1288, release 4.0 (2021), sections 2 and 4; Janesick, Photon Transfer "
    "(2007), doi:10.1117/3.725073",
    certify=_certify_sensor,
    linear=True,
)
def sensor_noise(
    pixels: Pixels,
    rng: np.random.Generator,
    *,
    full_well: Annotated[float, Electrons(1, 1e9)],
    read: Annotated[float, Electrons(0, 1e6, per="full-well")] = 0.0,
    prnu: Annotated[float, Share()] = 0.0,
    dsnu: Annotated[float, Electrons(0, 1e6, per="full-well")] = 0.0,
    row: Annotated[float, Electrons(0, 1e6, per="full-well")] = 0.0,
    sensor: Annotated[int, Count(0, 999_999)] = 0,
) -> Pixels:
    """Photograph x again: `(k + read n + dsnu d + row r) / full_well`.

    k is a Poisson count of mean `full_well x (1 + prnu g)`; n, d, g normal for every sample,
    r normal for every row. g and d are the sensor's own: they are the same for every seed and
    every picture of one size, and change with `sensor` alone.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
        Samples below 0 count as 0.
    rng : numpy.random.Generator
    full_well : float
        Electrons at full scale, 1 to 1e9: full scale in dn over the gain in dn per electron.
    read : float
        Standard deviation of the read noise, electrons.
    prnu : float
        Photo-response non-uniformity: standard deviation of the gain, share of the signal.
    dsnu : float
        Dark-signal non-uniformity: standard deviation of the offset, electrons.
    row : float
        Standard deviation of the rows' offsets, electrons, new in every picture.
    sensor : int
        Which of a million sensors: names the fixed pattern.

    Returns
    -------
    float array of the same shape and dtype; not clipped.
    """
    electrons = np.ascontiguousarray(pixels, np.float32) * np.float32(full_well)
    electrons = electrons.clip(0, None)
    if prnu:
        gain = _pattern("prnu", sensor, pixels.shape)
        electrons = (electrons * (1 + np.float32(prnu) * gain)).clip(0, None)

    def expose(child: np.random.Generator, piece: Samples) -> None:
        counts = child.poisson(piece.astype(np.float64))
        piece[:] = counts
        if read:
            piece += np.float32(read) * child.standard_normal(piece.size, dtype=np.float32)

    fill(rng, [electrons.reshape(-1)], expose)
    if dsnu:
        electrons += np.float32(dsnu) * _pattern("dsnu", sensor, pixels.shape)
    if row:
        rows = (pixels.shape[0], *(1,) * (pixels.ndim - 1))
        electrons += np.float32(row) * draw(rng, rows, normal)
    electrons /= np.float32(full_well)
    return electrons.astype(pixels.dtype, copy=False)


def _pattern(name: str, sensor: int, shape: tuple[int, ...]) -> Samples:
    """A fixed pattern of a sensor, which no other setting changes."""
    return draw(np.random.default_rng([sensor, *name.encode(), *shape]), shape, normal)


def _transformed(
    pixels: Pixels, rng: np.random.Generator, sampler: Callable[..., object]
) -> Pixels:
    """The samples after `sampler(generator, piece, out)`."""
    source = np.ascontiguousarray(pixels, np.float32)
    out = np.empty_like(source)
    fill(rng, [source.reshape(-1), out.reshape(-1)], sampler)
    return out.astype(pixels.dtype, copy=False)
