"""The zero of a rising function."""

from __future__ import annotations

from collections.abc import Callable


def zero(rising: Callable[[float], float], low: float, high: float, within: float) -> float:
    """The number at which a rising function changes its sign, by bisection.

    Parameters
    ----------
    rising : function
        Below 0 at `low`, not below 0 at `high`.
    low, high : float
    within : float
        Width of the last bracket, unless its ends are neighbouring numbers; the result is its
        middle.
    """
    while high - low > within and low < (middle := (low + high) / 2) < high:
        low, high = (middle, high) if rising(middle) < 0 else (low, middle)
    return (low + high) / 2
