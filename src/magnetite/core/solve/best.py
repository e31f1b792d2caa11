"""Find where a figure is largest."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from magnetite.core.solve.axis import Axis

#: Places of the grid that is tried first, how many times more closely the best is then found, and
#: places that are tried for that at most.
_COARSE, _FINER, _MOST = 13, 9, 8
#: A bracket with one side that many times longer is cut there instead, by the golden section.
_LOPSIDED, _GOLDEN = 2.5, 0.382


def largest(axis: Axis, value: Callable[[float], float]) -> float:
    """The number at which a function is largest: the best of a grid, then between its neighbours.

    The bracket of three places around the best one shrinks by successive parabolic interpolation
    (Brent, Algorithms for Minimization without Derivatives, 1973, chapter 5) until the best is
    known to a ninth of the grid's stride, or eight more places were tried.
    """
    worth = {u: value(axis.number(u)) for u in np.linspace(axis.low, axis.high, _COARSE).tolist()}
    near = (axis.high - axis.low) / (_COARSE - 1) / _FINER
    while len(worth) < _COARSE + _MOST and (place := _next(worth, near)) is not None:
        worth[place] = value(axis.number(place))
    return axis.number(max(worth, key=lambda u: worth[u]))


def _next(worth: dict[float, float], near: float) -> float | None:
    """Where to try next; None once no place is left around the best that is not near others."""
    places = sorted(worth)
    index = places.index(max(worth, key=lambda u: worth[u]))
    best = places[index]
    low, high = places[max(0, index - 1)], places[min(index + 1, len(places) - 1)]
    below, above = best - low, high - best
    if max(below, above) < 1.5 * near:
        return None
    top = _vertex(*((u, worth[u]) for u in (low, best, high)))
    if top is None or max(below, above) > _LOPSIDED * min(below, above):
        return best - _GOLDEN * below if below > above else best + _GOLDEN * above
    if abs(top - best) < near:  # close the bracket around it
        return best - near if below > above else best + near
    return min(max(top, low + near / 2), high - near / 2)


Point = tuple[float, float]


def _vertex(one: Point, two: Point, three: Point) -> float | None:
    """Where the parabola through three points is largest; None where there is none."""
    (a, fa), (b, fb), (c, fc) = one, two, three
    left, right = (b - a) * (fb - fc), (b - c) * (fb - fa)
    if not math.isfinite(left) or not math.isfinite(right) or left == right:
        return None
    return b - 0.5 * ((b - a) * left - (b - c) * right) / (left - right)
