"""Colour pictures as planes whose noise is independent and of the same sd."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float32, Pixels

#: Orthonormal: brightness, red against blue, and green against both.
_OPPONENT = np.array([[1, 1, 1], [1, 0, -1], [1, -2, 1]]) / np.sqrt([[3], [2], [6]])


def to_opponent(pixels: Pixels) -> list[Float32]:
    """RGB as three opponent planes; a gray picture, or any other planes, as they are."""
    if pixels.ndim == 2:
        return [np.ascontiguousarray(pixels, np.float32)]
    mixed = pixels @ _OPPONENT.T.astype(pixels.dtype) if pixels.shape[2] == 3 else pixels
    return [np.ascontiguousarray(mixed[..., c], np.float32) for c in range(pixels.shape[2])]


def from_opponent(planes: list[Float32], like: Pixels) -> Pixels:
    """The picture of planes, in the shape and dtype of the source."""
    if like.ndim == 2:
        return planes[0].astype(like.dtype)
    stacked = np.stack(planes, axis=-1)
    mixed = stacked @ _OPPONENT.astype(np.float32) if like.shape[2] == 3 else stacked
    return mixed.astype(like.dtype)
