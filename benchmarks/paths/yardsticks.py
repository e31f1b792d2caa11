"""What the hot paths are compared with: plain calls of NumPy, SciPy and Pillow."""

from __future__ import annotations

import io
from collections.abc import Callable

import numpy as np
from scipy import ndimage

from magnetite.core.picture import Picture

Work = Callable[[], object]


def gaussians(plane: np.ndarray, count: int = 1, sigma: float = 1.5) -> Work:
    """SciPy's Gaussian filter, in the precision of the plane."""
    return lambda: [ndimage.gaussian_filter(plane, sigma) for _ in range(count)]


def casts(picture: Picture) -> Work:
    """Two casts of the samples to float32."""
    return lambda: [picture.samples.astype(np.float32) for _ in range(2)]


def median(plane: np.ndarray) -> Work:
    """SciPy's 5x5 median in float64."""
    wide = plane.astype(np.float64)
    return lambda: ndimage.median_filter(wide, size=5)


def drawing(size: int) -> Work:
    """Normal numbers in float32, drawn once, in one call on one thread."""
    rng, out = np.random.default_rng(2), np.empty(size, np.float32)
    return lambda: rng.standard_normal(out=out, dtype=np.float32)


def decoding(*pictures: Picture) -> Work:
    """Decoding the PNG files of pictures with Pillow."""
    from PIL import Image

    files = []
    for picture in pictures:
        file = io.BytesIO()
        Image.fromarray(picture.samples).save(file, "png")
        files.append(file.getvalue())
    return lambda: [np.asarray(Image.open(io.BytesIO(file))) for file in files]
