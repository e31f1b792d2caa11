"""Pictures as the hot loops take them: channels one after the other, with margins, in bands."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float32, Pixels
from magnetite.core.compute.bands import bands

#: Rows worked on at a time.
_ROWS = 112


def to_planes(pixels: Pixels) -> Float32:
    """The channels one after the other, shape (n, h, w)."""
    return np.ascontiguousarray(np.moveaxis(np.atleast_3d(pixels), 2, 0), np.float32)


def to_picture(planes: Float32, like: Pixels) -> Pixels:
    """The picture of such planes, in the shape and dtype of the source."""
    stacked = planes[0] if like.ndim == 2 else np.moveaxis(planes, 0, 2)
    return np.ascontiguousarray(stacked, like.dtype)


def mirrored(planes: Float32, margin: int) -> Float32:
    """Planes with a mirrored margin and padded rows.

    The room is such that samples below one another share no set of cache lines.
    """
    padded = np.pad(planes, [(0, 0), (margin, margin), (margin, margin)], mode="symmetric")
    room = -(-padded.shape[2] // 1024) * 1024 + 80 - padded.shape[2]
    return np.pad(padded, [(0, 0), (0, 0), (0, room)])


def rows_of(planes: Float32) -> list[slice]:
    """Bands of rows to be worked on one by one: column sums start again in each."""
    return bands(planes.shape[1], _ROWS)
