"""Settings of every restoration, and how tests apply one to an array."""

from __future__ import annotations

import numpy as np

from magnetite.core.methods.catalogue import find

#: Settings of every restoration that do something.
STEPS = {
    "mean": "size=5", "gaussian": "sigma=1.3", "median": "size=5", "adaptive-median": "",
    "bilateral": "range=10%", "wiener": "sd=4%", "guided": "range=10%",
    "anisotropic-diffusion": "range=10%", "sharpen": "", "sliding-dct": "sd=4%",
    "wavelet-shrink": "sd=4%", "nl-means": "sd=4%", "bm3d": "sd=4%",
    "total-variation": "strength=5%", "wiener-deblur": "sigma=1.2 sd=0.5%",
    "richardson-lucy": "sigma=1.2", "tv-deblur": "radius=1.5", "deblock": "step=20%",
    "dering": "range=10%", "dequantize": "step=10%", "anscombe": "full-well=500e read=3e",
}  # fmt: skip


def apply(name: str, pixels: np.ndarray, **settings: object) -> np.ndarray:
    return find("restoration", name).function(pixels, **settings)


def psnr(one: np.ndarray, two: np.ndarray) -> float:
    return float(-10 * np.log10(np.mean((one - two) ** 2, dtype=np.float64)))
