"""The strength of noise as a setting of restorations: given, or estimated from the picture."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.errors import PictureError
from magnetite.core.gauges.noise_blocks import NoiseEstimate, noise_estimate
from magnetite.core.gauges.noise_level import noise_wavelet
from magnetite.core.methods.amplitudes import Amplitude


class _EstimatedSd(Amplitude):
    """Standard deviation of Gaussian noise; left out, it is estimated from the picture."""

    estimated = True

    def describe(self) -> str:
        return f"{super().describe()}; estimated if left out"

    def argument(self) -> str:
        return f"{super().argument()}; estimated if left out"

    def example(self) -> str:
        return "10dn"

    def estimate(self, pixels: Pixels) -> float:
        return estimated(pixels, None)


NoiseSd = Annotated[float | None, _EstimatedSd(), "standard deviation of the noise"]


def estimated(pixels: Pixels, sd: float | None, step: float | None = None) -> float:
    """The sd given, or that of `estimate` of pixels, shape (h, w) or (h, w, n); of full scale."""
    return sd if sd is not None else estimate(pixels, step).sd


def estimate(pixels: Pixels, step: float | None = None) -> NoiseEstimate:
    """Sd of the noise of a picture by its least textured blocks, with its interval.

    Pictures with fewer than 16 blocks have that of their finest diagonal wavelet coefficients,
    with an interval that excludes nothing; 0 below 2x2. Of several channels the mean of their
    figures. `step` is the distance of two digital numbers, as in `noise_wavelet`.
    """
    planes = [pixels] if pixels.ndim == 2 else np.moveaxis(pixels, 2, 0)
    try:
        each = [noise_estimate(plane) for plane in planes]
    except PictureError:
        sd = noise_wavelet(pixels, step=step) if min(pixels.shape[:2]) >= 2 else 0.0
        return NoiseEstimate(sd, 0.0, np.inf)
    sd, low, high = np.mean(each, axis=0)
    return NoiseEstimate(float(sd), float(low), float(high))
