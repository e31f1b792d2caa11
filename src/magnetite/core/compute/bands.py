"""A picture's rows in bands: each piece of work stays in the cache, or on a thread of its own."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

import numpy as np

from magnetite.core.arrays import Float64, Samples
from magnetite.core.compute.threads import spread, threads

Result = TypeVar("Result")
#: Pixels of a band, and of a plane that is worth several threads.
_BAND, _WORTH_SPREADING = 2**15, 2**17


def bands(count: int, size: int) -> list[slice]:
    """Rows 0 to count - 1 in bands of a size, the last one shorter; they do not overlap.

    A band that also needs its neighbours' rows widens its slice by the reach of the step.
    """
    return [slice(start, min(start + size, count)) for start in range(0, count, size)]


def bands_of(samples: Samples, size: int = 2**17) -> list[slice]:
    """Rows of an array in bands of about `size` samples, which stay in the cache."""
    return bands(samples.shape[0], max(1, size * samples.shape[0] // max(1, samples.size)))


def on_bands(work: Callable[[slice], Result], plane: Samples, rows: int) -> list[Result]:
    """Results of `work` for bands of a plane's rows; one thread for small planes."""
    parts = bands(plane.shape[0], rows)
    return spread(work, parts) if worth_spreading(plane) else list(map(work, parts))


def worth_spreading(plane: Samples) -> bool:
    """Whether a plane is so large that a second thread saves more time than it takes to start."""
    return plane.size >= _WORTH_SPREADING


def shares(count: int) -> list[slice]:
    """Rows in as many even bands as there are threads: for work that is alike at every row."""
    size = -(-count // min(threads(), max(1, count)))
    return bands(count, max(1, size))


def by_bands(function: Callable[..., Float64], *arrays: Samples) -> Float64:
    """`function` of arrays that share their rows, row by row, as one array.

    The function must treat every row separately and return one row for each.
    """
    rows = max(1, _BAND // arrays[0].shape[1])

    def work(part: slice) -> Float64:
        return function(*(array[part] for array in arrays))

    return np.concatenate(spread(work, bands(arrays[0].shape[0], rows)))
