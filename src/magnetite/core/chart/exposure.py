"""Parts of a chart that are clipped at black or full scale."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Bools, Float64
from magnetite.core.errors import PictureError

#: Share of the samples of one channel from which on a part of the picture counts as clipped.
_MOST = 0.01
#: Why a part is left out.
CLIPPED = "clipped at black or full scale"


def clipped_samples(samples: Float64, rounding: float) -> Bools:
    """Samples, in full-scale units, at black or full scale; `rounding` is their distance.

    An end beyond which samples lie clips none of them: floats may be kept outside the range.
    """
    low, high = samples.min(initial=0.0) >= 0, samples.max(initial=0.0) <= 1
    return np.asarray((low & (samples <= 0)) | (high & (samples >= 1 - rounding / 2)))


def is_clipped(clipped: Bools) -> bool:
    """Whether too many samples of a channel, shape (h, w, channels), are clipped."""
    return clipped.size > 0 and bool(clipped.mean(axis=(0, 1)).max() > _MOST)


def check_unclipped(clipped: Bools) -> None:
    """Raise `PictureError` if too many samples, shape (h, w, channels), are clipped."""
    if is_clipped(clipped):
        raise PictureError(CLIPPED)
