"""The strength of noise as a setting of restorations: given, or estimated from the picture."""

from __future__ import annotations

from magnetite.core.arrays import Pixels
from magnetite.core.gauges.noise_level import noise_wavelet
from magnetite.core.methods.amplitudes import Amplitude


class NoiseSd(Amplitude):
    """Standard deviation of Gaussian noise; left out, it is estimated from the picture."""

    estimated = True

    def describe(self) -> str:
        return f"{super().describe()}; estimated if left out"

    def example(self) -> str:
        return "10dn"

    def estimate(self, pixels: Pixels) -> float:
        return estimated(pixels, None)


def estimated(pixels: Pixels, sd: float | None, step: float | None = None) -> float:
    """The sd given, or that of the finest diagonal wavelet coefficients, of full scale.

    Of several channels the mean of their figures; 0 for pictures below 2x2. `step` is the
    distance of two digital numbers, as in `noise_wavelet`.
    """
    if sd is not None:
        return sd
    return noise_wavelet(pixels, step=step) if min(pixels.shape[:2]) >= 2 else 0.0
