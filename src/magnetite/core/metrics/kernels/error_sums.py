"""The hot loop of the error metrics: all their sums of whole-number samples in one pass."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.compute.bands import bands
from magnetite.core.compute.jit import compiled, readable
from magnetite.core.compute.threads import spread

#: Samples of a piece of work.
_PIECE = 2**20


def whole_sums(x: Samples, y: Samples) -> tuple[int, int, int, int]:
    """`Σ (x - y)²`, `Σ |x - y|`, `max |x - y|` and `Σ x²`, exact.

    Parameters
    ----------
    x, y : uint8 or uint16 arrays of one type and shape
    """
    one, two = readable(x).reshape(-1), readable(y).reshape(-1)
    parts = spread(lambda part: _sums(one[part], two[part]), bands(one.size, _PIECE))
    squares, absolute, largest, power = zip(*parts, strict=True)
    return sum(map(int, squares)), sum(map(int, absolute)), int(max(largest)), sum(map(int, power))


@compiled()
def _sums(x: Samples, y: Samples) -> tuple[np.int64, np.int64, np.int64, np.int64]:
    squares, absolute, largest, power = np.uint64(0), np.uint64(0), np.uint64(0), np.uint64(0)
    for i in range(x.size):
        d = np.uint64(abs(np.int32(x[i]) - np.int32(y[i])))
        squares += d * d
        absolute += d
        power += np.uint64(x[i]) * np.uint64(x[i])
        largest = max(largest, d)
    return np.int64(squares), np.int64(absolute), np.int64(largest), np.int64(power)
