"""Power spectra of pictures."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.compute.threads import threads

#: Steps of the frequency up to 1/2 cycle per px.
_BINS = 64


def power(plane: Float64) -> Float64:
    """Power at each frequency, shape (h, w); white noise has its variance at all of them.

    The mean is subtracted and the edges faded (Hann), so that they do not draw a cross.
    """
    from scipy.fft import fft2

    rows, columns = (np.hanning(n + 2)[1:-1] for n in plane.shape)
    fade = np.outer(rows, columns)
    transform = fft2((plane - plane.mean()) * fade, workers=threads())
    return np.asarray(np.abs(transform) ** 2 / (fade**2).sum())


def radial_power(samples: Float64) -> tuple[Float64, Float64]:
    """Frequencies in cycles per px up to 1/2, and the mean power there, each of shape (n,).

    `samples` of shape (h, w) or (h, w, n), of which all channels count.
    """
    planes = np.moveaxis(samples.reshape(*samples.shape[:2], -1), -1, 0)
    mean = np.mean([power(plane) for plane in planes], axis=0)
    fy, fx = (np.fft.fftfreq(n) for n in mean.shape)
    frequency = np.hypot(fy[:, np.newaxis], fx[np.newaxis])
    index = np.floor(frequency * 2 * _BINS).astype(int)
    inside = (index < _BINS) & (frequency > 0)
    count = np.bincount(index[inside], minlength=_BINS)
    total = np.bincount(index[inside], mean[inside], _BINS)
    held = count > 0
    return (np.arange(_BINS)[held] + 0.5) / (2 * _BINS), total[held] / count[held]
