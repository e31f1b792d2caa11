"""Positions where samples were clipped at black or full scale, so that their noise is unknown."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Bools, Mask, Pixels
from magnetite.core.compute.diagonals import sizes_within
from magnetite.core.compute.filters import convolve_separable

#: Signals within this many sd of the noise from an end are taken to be clipped now and then.
_REACH = 3.0
#: Median of |n| for a standard normal n.
_NORMAL_MEDIAN = 0.6744897501960817
#: Side of the window over which the signal is averaged, px.
_WINDOW = 5


def clear_of_ends(reference: Pixels, test: Pixels, peak: float) -> Mask:
    """Positions where no channel of the signal is so near to an end that its noise is clipped.

    An end counts where samples lie on it and none beyond: floats that were kept outside the
    range are not clipped. The signal is the mean of both pictures over 5x5 samples, since a
    choice by the noisy samples themselves would take noise of one sign.

    Parameters
    ----------
    reference, test : float arrays, shape (h, w) or (h, w, n)
    peak : float
        Full scale.

    Returns
    -------
    bool array, shape (h, w), or None where no end clips or the arrays are equal
    """
    planes = zip(_planes(reference), _planes(test), strict=True)
    clear: Mask = None
    for one, two in planes:
        low = min(float(one.min()), float(two.min())) == 0
        high = max(float(one.max()), float(two.max())) == peak
        if not (low or high):
            continue
        reach = _REACH * _noise(one - two, at_ends(one, peak) & at_ends(two, peak))
        if not 0 < reach < np.inf:
            continue
        signal = convolve_separable((one + two) / 2, np.full(_WINDOW, 1 / _WINDOW))
        inside = np.ones(signal.shape, bool)
        if low:
            inside &= signal > reach
        if high:
            inside &= signal < peak - reach
        clear = inside if clear is None else clear & inside
    return clear


def at_ends(samples: Pixels, peak: float) -> Bools:
    """Samples of any shape at black or full scale, or beyond."""
    return np.asarray((samples <= 0) | (samples >= peak))


def _noise(difference: Pixels, ended: Bools) -> float:
    """Sd of the noise in a difference, by the median of its diagonal Haar coefficients."""
    if min(difference.shape) < 2:
        return 0.0
    return float(np.median(sizes_within(difference, ended))) / _NORMAL_MEDIAN


def _planes(pixels: Pixels) -> list[Pixels]:
    return [pixels] if pixels.ndim == 2 else [pixels[..., c] for c in range(pixels.shape[2])]
