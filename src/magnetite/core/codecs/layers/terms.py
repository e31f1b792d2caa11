"""How many terms of a decomposition are kept."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.errors import PictureError

#: Matrices of more numbers than this take too long to decompose.
_LARGEST = 2**23


def break_even(height: int, width: int) -> float:
    """Rank from which on the factors hold more numbers than the matrix: h w / (h + w + 1)."""
    return height * width / (height + width + 1)


def check_size(height: int, width: int) -> None:
    """Raises `PictureError` for a matrix that would take too long to decompose."""
    if min(height, width) ** 2 * max(height, width) > _LARGEST**1.5:
        raise PictureError(
            f"a matrix of {height}x{width} takes too long to decompose; "
            "take a smaller picture or region"
        )


@dataclass(frozen=True)
class Keep:
    """A number of terms, the share of `Σ s²` they hold at least, or their rms error at most."""

    rank: int | None = None
    energy: float | None = None
    error: float | None = None

    def count(self, values: Float64, size: int) -> Any:
        """Terms to keep of falling singular values on the last axis, of matrices of `size`."""
        first = values[..., :1]
        positive = (values > 1e-6 * np.maximum(first, 1e-12)).sum(axis=-1)
        positive = np.where(first[..., 0] <= 1e-9, 0, positive)
        if self.rank is not None:
            return np.minimum(self.rank, positive)
        squares = (values**2)[..., ::-1]
        tails = np.cumsum(squares, axis=-1)[..., ::-1]
        if self.energy is not None:
            allowed = (1 - self.energy) * tails[..., :1]
        else:
            allowed = np.full_like(first, (self.error or 0.0) ** 2 * size)
        return np.minimum(positive, (tails > allowed * (1 + 1e-9)).sum(axis=-1))
