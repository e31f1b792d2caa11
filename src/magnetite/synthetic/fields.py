"""Random fields and shapes from which the scenes are put together."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Indices
from magnetite.core.compute.threads import spread

#: Rows of a piece of work.
_BAND = 64
#: Samples of a made-up picture, or positions in it; float32 or float64.
Field = NDArray[Any]


def clouds(
    shape: tuple[int, int], rng: np.random.Generator, slope: float, coarsest: float
) -> Field:
    """Random field of mean 0 and standard deviation 1 with a power-law spectrum.

    Amplitude falls as frequency^-slope; nothing is coarser than `coarsest` px.
    """
    from scipy.fft import irfft2, rfft2

    spectrum = rfft2(rng.standard_normal(shape))
    fy = np.fft.fftfreq(shape[0])[:, np.newaxis]
    fx = np.fft.rfftfreq(shape[1])[np.newaxis]
    frequency = np.hypot(fy, fx)
    weight = np.where(frequency < 1 / coarsest, 0.0, 1.0)
    np.divide(weight, frequency**slope, out=weight, where=frequency > 0)
    field = irfft2(spectrum * weight, s=shape)
    return np.asarray(field / max(float(field.std()), 1e-12))


def cells(
    shape: tuple[int, int], rng: np.random.Generator, spacing: float, warp: Field | None = None
) -> tuple[Indices, Field, int]:
    """Voronoi cells of jittered points: number of each pixel's cell, distance to the border, count.

    `warp` bends the borders: a field of displacements in px, used for both axes.
    """
    from scipy.spatial import cKDTree

    rows, columns = (int(np.ceil(n / spacing)) + 2 for n in shape)
    grid = np.stack(np.meshgrid(np.arange(rows), np.arange(columns), indexing="ij"), -1)
    points = (grid.reshape(-1, 2) - 1 + rng.random((rows * columns, 2))) * spacing
    y, x = np.indices(shape, dtype=np.float64)
    if warp is not None:
        y, x = y + warp, x + np.roll(warp, shape[1] // 3, axis=1)
    tree, pixels = cKDTree(points), np.stack([y, x], -1)
    # Not by the tree's own threads: they go on after an interruption, in memory that is freed then.
    bands = [slice(row, row + _BAND) for row in range(0, shape[0], _BAND)]
    found = spread(lambda band: tree.query(pixels[band], k=2), bands)
    distance, nearest = (np.concatenate(parts) for parts in zip(*found, strict=True))
    return nearest[..., 0], (distance[..., 1] - distance[..., 0]) / 2, len(points)


def smoothstep(low: float, high: float, x: Field) -> Field:
    """0 below `low`, 1 above `high`, a smooth ramp between."""
    t = np.clip((x - low) / (high - low), 0, 1)
    return np.asarray(t * t * (3 - 2 * t))


def mix(one: Field, two: Field, share: Field) -> Field:
    """Blend two colours or colour fields by a share, 0 to 1."""
    return np.asarray(one + (two - one) * share[..., np.newaxis])
