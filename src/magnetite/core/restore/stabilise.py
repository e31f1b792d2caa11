"""Signal-dependent noise: stabilised, denoised as Gaussian noise, and brought back."""

from __future__ import annotations

import math
from functools import cache
from typing import Annotated, Literal

import numpy as np

from magnetite.core.arrays import Float64, Pixels, Samples
from magnetite.core.methods.amplitudes import Electrons
from magnetite.core.methods.catalogue import ColourPolicy, find, restoration

#: Largest signal of the table of the inverse, electrons, and its points.
_LARGEST, _POINTS = 400.0, 2001


@restoration(
    "anscombe",
    summary="Make photon noise even, denoise it as Gaussian noise, and undo that without bias.",
    colour=ColourPolicy.JOINT,
    source="Anscombe, Biometrika 35, 1948, doi:10.2307/2332343; Makitalo and Foi, IEEE Trans. "
    "Image Processing 22(1), 2013, doi:10.1109/TIP.2012.2202675",
    memory=560,
)
def anscombe(
    pixels: Pixels,
    *,
    full_well: Annotated[float, Electrons(1, 1e9), "electrons at full scale, black at 0"],
    read: Annotated[
        float, Electrons(0, 1e6, per="full-well"), "standard deviation of the read noise"
    ] = 0.0,
    by: Annotated[
        Literal["bm3d", "nl-means", "sliding-dct", "wavelet-shrink", "wiener"], "denoiser"
    ] = "bm3d",
) -> Pixels:
    """`f(e) = 2 √(e + 3/8 + read²)` of e electrons has noise of sd 1, whatever the signal.

    Back goes the exact unbiased inverse: the signal whose transformed noisy samples have that
    mean, from a table up to 400 electrons and by its closed form above, `D²/4 + √(3/2)/(4 D) -
    11/(8 D²) + 5 √(3/2)/(8 D³) - 1/8 - read²`. `calibrate noise` prints full-well and read of a
    camera.
    """
    even = forward(pixels.astype(np.float64) * full_well, read)
    low, high = float(even.min()), float(even.max())
    if high == low:
        return pixels.copy()
    # Methods take full-scale units.
    scaled = ((even - low) / (high - low)).astype(np.float32)
    method = find("restoration", by)
    assert method is not None, "the choices are declared"
    denoised = method.function(scaled, sd=1 / (high - low))
    restored = backward(denoised.astype(np.float64) * (high - low) + low, read) / full_well
    return restored.astype(pixels.dtype)


def forward(electrons: Samples, read: float) -> Samples:
    """Generalised Anscombe transform, any shape; signals below -3/8 - read² count as that."""
    return np.asarray(2 * np.sqrt(np.maximum(electrons + 3 / 8 + read**2, 0)))


def backward(even: Samples, read: float) -> Samples:
    """Exact unbiased inverse, electrons, any shape: none where D is at most that of no signal."""
    signals, means = inverse_table(read)
    exact = np.interp(even, means, signals)
    return np.where(even < means[-1], exact, _closed_form(np.maximum(even, means[-1]), read))


@cache
def inverse_table(read: float) -> tuple[Float64, Float64]:
    """Signals y up to 400 electrons, and `Σ p(k; y) E f(k + read n)`, n normal.

    p is Poisson's law.
    """
    from scipy.stats import norm, poisson

    signals = np.linspace(0, math.sqrt(_LARGEST), _POINTS) ** 2
    counts = np.arange(int(_LARGEST + 10 * math.sqrt(_LARGEST)))
    normal = np.linspace(-8, 8, 4001)
    weights = norm.pdf(normal) * (normal[1] - normal[0])
    means = forward(counts[:, np.newaxis] + read * normal, read) @ weights
    return signals, np.asarray(poisson.pmf(counts, signals[:, np.newaxis]) @ means)


def _closed_form(d: Samples, read: float) -> Samples:
    root = np.sqrt(3 / 2)
    inverse = d**2 / 4 + root / (4 * d) - 11 / (8 * d**2) + 5 * root / (8 * d**3) - 1 / 8 - read**2
    return np.asarray(inverse)
