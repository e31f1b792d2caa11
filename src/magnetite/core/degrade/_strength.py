"""How strong additive noise is, in any of the ways it may be asked for."""

from __future__ import annotations

import math
from typing import Annotated, Literal

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.errors import PictureError
from magnetite.core.methods.amplitudes import Amplitude, Variance
from magnetite.core.methods.parameters import Decibels

Sd = Annotated[float | None, Amplitude(), "standard deviation"]
MeanSquare = Annotated[float | None, Variance(), "square of the standard deviation"]
Psnr = Annotated[float | None, Decibels(-40, 120), "full scale squared over the mean square"]
Snr = Annotated[
    float | None, Decibels(-40, 120), "mean square of the samples over that of the noise"
]
Mean = Annotated[float, Amplitude(-1, 1), "mean of the noise"]
Channels = Annotated[
    Literal["independent", "common"], "noise of its own for each channel, or the same for all"
]

#: Of these settings exactly one says how strong noise is.
STRENGTH = ("sd", "variance", "psnr", "snr")


def depends_on_signal(*, snr: float | None = None, **_: object) -> bool:
    """Whether the strength follows from the mean square of the whole picture."""
    return snr is not None


def noise_sd(
    pixels: Pixels,
    *,
    sd: float | None = None,
    variance: float | None = None,
    psnr: float | None = None,
    snr: float | None = None,
    mean: float = 0.0,
) -> float:
    """Standard deviation, share of full scale, of noise asked for in one of four ways.

    `psnr` and `snr` speak of the whole noise, its mean included: its mean square is
    `10^(-psnr/10)`, or the mean square of the samples times `10^(-snr/10)`.

    Raises
    ------
    PictureError
        If the mean alone is stronger than the strength asked for.
    """
    if sd is not None:
        return sd
    if variance is not None:
        return math.sqrt(variance)
    if psnr is not None:
        power = 10 ** (-psnr / 10)
    elif snr is not None:
        power = float(np.mean(np.square(pixels, dtype=np.float64))) * 10 ** (-snr / 10)
    else:
        raise TypeError("one of sd, variance, psnr and snr must be given")
    if mean**2 > power:
        raise PictureError("the noise's mean alone is stronger than the psnr or snr asked for")
    return math.sqrt(power - mean**2)
