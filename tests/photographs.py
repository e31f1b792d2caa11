"""Six photographs for tests: made from the two sample pictures of an installed package."""

from __future__ import annotations

from functools import cache

import numpy as np
from numpy.typing import NDArray
from sklearn.datasets import load_sample_images

Gray = NDArray[np.float64]


@cache
def photographs(side: int = 256) -> tuple[Gray, ...]:
    """Gray, on 0..255: of each picture the middle, the middle at half the size, and a corner."""
    found: list[Gray] = []
    for picture in load_sample_images().images:
        gray = picture[: picture.shape[0] // 2 * 2] @ np.array([0.299, 0.587, 0.114])
        half = (gray[::2, ::2] + gray[1::2, ::2] + gray[::2, 1::2] + gray[1::2, 1::2]) / 4
        found += [_middle(gray, side), _middle(half, side), gray[:side, :side]]
    return tuple(np.rint(one) for one in found)


def _middle(plane: Gray, side: int) -> Gray:
    top, left = (max(0, (n - side) // 2) for n in plane.shape)
    return plane[top : top + side, left : left + side]
