"""Find where a figure is largest."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from magnetite.core.solve.axis import Axis

#: First over the whole axis, then this many times finer around the best.
_COARSE, _ROUNDS = 13, 2


def largest(axis: Axis, value: Callable[[float], float]) -> float:
    """The number at which a function is largest: on a coarse grid, then around the best place."""

    def worth(place: float) -> float:
        return value(axis.number(place))

    stride = (axis.high - axis.low) / (_COARSE - 1)
    best = float(max(np.linspace(axis.low, axis.high, _COARSE), key=worth))
    for _ in range(_ROUNDS):
        stride /= 3
        around = [best + k * stride for k in (-2, -1, 0, 1, 2)]
        best = max((u for u in around if axis.low <= u <= axis.high), key=worth)
    return axis.number(best)
