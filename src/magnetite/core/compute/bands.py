"""Work on a picture in bands of rows that stay in the cache, on two threads."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from magnetite.core.arrays import Float64, Samples
from magnetite.core.compute.threads import spread

#: Pixels of a band.
_BAND = 2**15


def by_bands(function: Callable[..., Float64], *arrays: Samples) -> Float64:
    """`function` of arrays that share their rows, row by row, as one array.

    The function must treat every row separately and return one row for each.
    """
    rows = max(1, _BAND // arrays[0].shape[1])
    starts = range(0, arrays[0].shape[0], rows)

    def work(start: int) -> Float64:
        return function(*(array[start : start + rows] for array in arrays))

    return np.concatenate(spread(work, starts))
