"""Samples at the ends of the scale, where light is no longer recorded."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Bools, Float64
from magnetite.core.errors import PictureError

#: Share of the samples of one channel from which on a part of the picture counts as clipped.
MOST = 0.01
#: Why a part is left out.
CLIPPED = "clipped at black or full scale"


def at_the_ends(samples: Float64, rounding: float) -> Bools:
    """Samples, in full-scale units, at black or full scale; `rounding` is their distance.

    An end beyond which samples lie clips none of them: floats may be kept outside the range.
    """
    low, high = samples.min(initial=0.0) >= 0, samples.max(initial=0.0) <= 1
    return np.asarray((low & (samples <= 0)) | (high & (samples >= 1 - rounding / 2)))


def is_clipped(ends: Bools) -> bool:
    """Whether too many samples of a channel, shape (h, w, channels), are at the ends."""
    return ends.size > 0 and bool(ends.mean(axis=(0, 1)).max() > MOST)


def check_unclipped(ends: Bools) -> None:
    """Raise `PictureError` where too many samples, shape (h, w, channels), are at the ends."""
    if is_clipped(ends):
        raise PictureError(CLIPPED)
