"""Noise of known strength."""

from __future__ import annotations

import math
from typing import Annotated, Literal

import numpy as np

from magnetite.core.degrade.certificate import Change, Finding
from magnetite.core.parameters import Amplitude, Share
from magnetite.core.picture import Pixels
from magnetite.core.registry import ColourPolicy, degradation


def certify_sd(change: Change, *, sd: float) -> list[Finding]:
    """Mean and standard deviation of additive noise with a setting `sd`."""
    drawn = np.subtract(change.drawn, change.before, dtype=np.float64)
    stored = np.subtract(change.stored, change.before, dtype=np.float64)
    drawn_sd = float(drawn.std())
    root_n = math.sqrt(drawn.size)
    return [
        Finding("sd", "fs", sd, drawn_sd, float(stored.std()), drawn_sd / (math.sqrt(2) * root_n)),
        Finding("mean", "fs", 0.0, float(drawn.mean()), float(stored.mean()), drawn_sd / root_n),
    ]


@degradation(
    "gaussian-noise",
    summary="Add independent normal noise to every sample.",
    colour=ColourPolicy.EACH,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 5.2",
    certify=certify_sd,
)
def gaussian_noise(
    pixels: Pixels, rng: np.random.Generator, *, sd: Annotated[float, Amplitude()]
) -> Pixels:
    """Add independent normal noise: `x + sd n`, n of mean 0 and standard deviation 1.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
    rng : numpy.random.Generator
    sd : float
        Standard deviation, share of full scale, 0 to 1.

    Returns
    -------
    float array of the same shape and dtype; not clipped.
    """
    noise = rng.standard_normal(pixels.shape, dtype=pixels.dtype)
    noise *= pixels.dtype.type(sd)
    noise += pixels
    return noise


def _certify_density(change: Change, *, density: float, white: float, per: str) -> list[Finding]:
    """Count hits where a hit can be told from no hit: on samples that were neither end."""
    visible = (change.before > 0) & (change.before < 1)
    whitened = (change.drawn == 1) & visible
    hit = whitened | ((change.drawn == 0) & visible)
    if per == "pixel" and hit.ndim == 3:
        visible, hit, whitened = (np.any(x, axis=-1) for x in (visible, hit, whitened))
    count, hits = int(visible.sum()), int(hit.sum())
    if count == 0:
        return [Finding("density", "share", density, None)]
    findings = [
        Finding(
            "density", "share", density, hits / count, hits / count,
            math.sqrt(density * (1 - density) / count),
        )
    ]  # fmt: skip
    if hits:
        share = int(whitened.sum()) / hits
        error = math.sqrt(white * (1 - white) / hits)
        findings.append(Finding("white share", "share", white, share, share, error))
    return findings


@degradation(
    "salt-pepper",
    summary="Replace a random share of the samples by black or white.",
    colour=ColourPolicy.JOINT,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 5.2",
    certify=_certify_density,
)
def salt_pepper(
    pixels: Pixels,
    rng: np.random.Generator,
    *,
    density: Annotated[float, Share()],
    white: Annotated[float, Share()] = 0.5,
    per: Literal["pixel", "channel"] = "pixel",
) -> Pixels:
    """Replace samples by 1 with probability `density white`, by 0 with `density (1 - white)`.

    Parameters
    ----------
    pixels : float array, shape (h, w) or (h, w, n), full-scale units
    rng : numpy.random.Generator
    density : float
        Expected share of what is replaced, 0 to 1.
    white : float
        Share of the replaced that turns white, 0 to 1; the rest turns black.
    per : "pixel" or "channel"
        Whether a whole pixel is hit, all its channels at once, or each channel by itself.

    Returns
    -------
    float array of the same shape and dtype.
    """
    shape = pixels.shape if per == "channel" else pixels.shape[:2]
    draw = rng.random(shape, dtype=np.float64)
    if draw.ndim < pixels.ndim:
        draw = draw[..., np.newaxis]
    noisy = np.where(draw < density, pixels.dtype.type(0), pixels)
    return np.where(draw < density * white, pixels.dtype.type(1), noisy)
