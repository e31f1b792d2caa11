"""Work on a picture in bands of rows that stay in the cache, on two threads."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from magnetite.core.parallel import spread

Array = NDArray[np.float64]

#: Pixels of a band.
_BAND = 2**15


def by_bands(function: Callable[..., Array], *arrays: NDArray[Any]) -> Array:
    """`function` of arrays that share their rows, row by row, as one array.

    The function must treat every row separately and return one row for each.
    """
    rows = max(1, _BAND // arrays[0].shape[1])
    starts = range(0, arrays[0].shape[0], rows)

    def work(start: int) -> Array:
        return function(*(array[start : start + rows] for array in arrays))

    return np.concatenate(spread(work, starts))
