"""Orthonormal bases."""

from __future__ import annotations

from functools import cache

import numpy as np

from magnetite.core.arrays import Float64


@cache
def cosines(size: int) -> Float64:
    """The orthonormal DCT-II (Ahmed, Natarajan and Rao 1974), a row for each basis function.

    Read-only, shape (size, size).
    """
    k, n = np.arange(size)[:, np.newaxis], np.arange(size)
    rows = np.cos(np.pi * k * (2 * n + 1) / (2 * size)) * np.sqrt(2 / size)
    rows[0] /= np.sqrt(2)
    rows.flags.writeable = False
    return np.asarray(rows)
