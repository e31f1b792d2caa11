"""Restorations that shrink coefficients of a transform."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

import numpy as np

from magnetite.core.arrays import Float32, Pixels
from magnetite.core.codecs.layers.lifting import analyse, synthesise
from magnetite.core.compute.sliding import REACH, thresholded
from magnetite.core.compute.threads import each
from magnetite.core.methods.catalogue import ColourPolicy, restoration
from magnetite.core.methods.parameters import Count, Number
from magnetite.core.restore.kernels.noise_sd import NoiseSd, estimated


@restoration(
    "sliding-dct",
    summary="Cosine transform of blocks at all positions, small coefficients left out, averaged.",
    removes="noise",
    colour=ColourPolicy.EACH,
    source="Yaroslavsky, Egiazarian and Astola, Proc. SPIE 4304, 2001, doi:10.1117/12.424970",
    reach=REACH,
    statistics=lambda *, sd, **_: sd is None,
)
def sliding_dct(
    pixels: Pixels,
    *,
    sd: NoiseSd = None,
    threshold: Annotated[
        float, Number(0, 20), "threshold of the coefficients, in sd; 0 changes nothing"
    ] = 3.0,
) -> Pixels:
    """Mean over all 8x8 blocks with coefficients below threshold sd set to 0.

    The mean of each block stays. Mirrored at the edges; computed in float32.
    """
    least = threshold * estimated(pixels, sd)
    if least == 0:
        return pixels.copy()
    result = thresholded(pixels.astype(np.float32, copy=False), least)
    return result.astype(pixels.dtype, copy=False)


@restoration(
    "wavelet-shrink",
    summary="Wavelet coefficients shrunk by a threshold for each band, averaged over shifts.",
    removes="noise",
    colour=ColourPolicy.EACH,
    source="Chang, Yu and Vetterli, IEEE Trans. Image Processing 9(9), 2000, "
    "doi:10.1109/83.862633; Coifman and Donoho, Lecture Notes in Statistics 103, 1995, "
    "doi:10.1007/978-1-4612-2544-7_9",
    memory=160,
)
def wavelet_shrink(
    pixels: Pixels,
    *,
    sd: NoiseSd = None,
    threshold: Annotated[Literal["bayes", "universal"], "rule of the threshold"] = "bayes",
    shrink: Annotated[
        Literal["soft", "hard"], "coefficients above the threshold: reduced by it, or kept"
    ] = "soft",
    shifts: Annotated[
        int, Count(1, 8), "number of shifts, down and across each, that are averaged; 1 for none"
    ] = 4,
    levels: Annotated[
        int, Count(1, 10), "splits of the low band, at most as many as the shorter side allows"
    ] = 4,
) -> Pixels:
    """Shrink each band of the 9/7 wavelet transform of the picture and of shifted ones.

    The threshold is `sd² / s`, `s² = max(0, mean(c²) - sd²)` of the band (BayesShrink), or `sd √(2
    ln n)` of n samples (universal). "soft" lowers all magnitudes by it, "hard" leaves out those
    below. Mirrored at the edges; computed in float32.
    """
    sd = estimated(pixels, sd)
    if sd == 0:
        return pixels.copy()
    padded = np.pad(pixels.astype(np.float32), ((shifts, 0), (shifts, 0)), mode="symmetric")
    height, width = pixels.shape
    levels = min(levels, min(height, width).bit_length() - 1)

    def shifted(shift: tuple[int, int]) -> Float32:
        down, across = shift
        bands: Any = analyse(padded[down:, across:], "9/7", levels)
        for level in bands[1:]:
            level[:] = [_shrunk(band, sd, threshold, shrink, pixels.size) for band in level]
        restored = synthesise(bands, "9/7")
        return np.asarray(restored[shifts - down :, shifts - across :], np.float32)

    every = [(down, across) for down in range(shifts) for across in range(shifts)]
    total = np.sum(each(shifted, every), axis=0, dtype=np.float32)
    return np.asarray(total / np.float32(len(every)), pixels.dtype)


def _shrunk(band: Float32, sd: float, threshold: str, shrink: str, size: int) -> Float32:
    if band.size == 0:
        return band
    if threshold == "universal":
        least = sd * math.sqrt(2 * math.log(max(2, size)))
    else:
        spread = float(np.mean(np.square(band, dtype=np.float64))) - sd**2
        least = sd**2 / math.sqrt(spread) if spread > 0 else math.inf
    if math.isinf(least):
        return np.zeros_like(band)
    limit = np.float32(least)
    if shrink == "hard":
        return np.where(np.abs(band) > limit, band, np.float32(0))
    return np.asarray(band - band.clip(-limit, limit))
