"""Made-up pictures of any size: smooth shading, edges and grain, the same at every call."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np

from magnetite.core.picture import Picture, as_picture


def shape(megapixels: float) -> tuple[int, int]:
    """Rows and columns, 3 to 4, even as mosaics need them."""
    width = math.sqrt(megapixels * 1e6 * 4 / 3)
    return 2 * round(width * 3 / 8), 2 * round(width / 2)


@lru_cache(maxsize=4)
def plane(megapixels: float) -> np.ndarray:
    """Samples on 0..1, float32."""
    height, width = shape(megapixels)
    y, x = np.mgrid[:height, :width].astype(np.float32)
    shading = 0.45 + 0.25 * np.sin(x / 300) * np.cos(y / 170)
    veins = 0.12 * np.sign(np.sin(x / 23 + 3 * np.sin(y / 57)))
    grain = np.random.default_rng(1).normal(0, 0.02, (height, width)).astype(np.float32)
    return (shading + veins + grain).clip(0, 1).astype(np.float32)


@lru_cache(maxsize=4)
def noisy(megapixels: float, sd: float = 25 / 255) -> np.ndarray:
    """The plane with normal noise, float32, not clipped."""
    clean = plane(megapixels)
    return clean + np.random.default_rng(2).normal(0, sd, clean.shape).astype(np.float32)


@lru_cache(maxsize=4)
def gray(megapixels: float) -> Picture:
    """The plane as a picture of 8 bits."""
    return as_picture(np.rint(plane(megapixels) * 255).astype(np.uint8))


@lru_cache(maxsize=4)
def colour(megapixels: float) -> Picture:
    """Three shades of the plane as a picture of 8 bits."""
    shades = [plane(megapixels) * share for share in (1.0, 0.9, 0.8)]
    return as_picture(np.rint(np.stack(shades, axis=-1) * 255).astype(np.uint8))


@lru_cache(maxsize=4)
def worn(picture: Picture, sd: float = 8) -> Picture:
    """The picture with normal noise of an sd in dn, clipped."""
    noise = np.random.default_rng(3).normal(0, sd, picture.samples.shape).astype(np.float32)
    return as_picture(np.rint(picture.samples + noise).clip(0, 255).astype(np.uint8))
