"""Find where a figure is largest."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from magnetite.core.solve.axis import Axis

#: Positions of the first grid; strides of the grid over the final resolution; most further tries.
_COARSE, _FINER, _MOST = 13, 9, 8
#: Parts of the stride after a plateau.
_DIVIDED = 5
#: A bracket with one side that many times longer is cut there instead, by the golden section.
_LOPSIDED, _GOLDEN = 2.5, 0.382


def largest(axis: Axis, value: Callable[[float], float]) -> float:
    """The number at which a function is largest: the best of a grid, then between its neighbours.

    Where the best of the grid is the end of a plateau (a filter too narrow to change a digital
    number), the stride after it is divided by five first. Then the bracket of three positions
    around the best shrinks by successive parabolic interpolation (Brent, Algorithms for
    Minimization without Derivatives, 1973, chapter 5) until the best is known to a ninth of the
    grid's stride, or eight more positions were tried.
    """
    grid = np.linspace(axis.low, axis.high, _COARSE).tolist()
    worth = {u: value(axis.number(u)) for u in grid}
    for u in _after_plateau(grid, worth):
        worth[u] = value(axis.number(u))
    most, near = len(worth) + _MOST, (grid[1] - grid[0]) / _FINER
    while len(worth) < most and (position := _next(worth, near)) is not None:
        worth[position] = value(axis.number(position))
    return axis.number(max(worth, key=lambda u: (worth[u], -u)))


def _after_plateau(grid: list[float], worth: dict[float, float]) -> list[float]:
    """Positions between the end of a plateau of largest values and the next of the grid."""
    end = max(range(len(grid)), key=lambda k: (worth[grid[k]], k))
    if end in (0, len(grid) - 1) or worth[grid[end - 1]] != worth[grid[end]]:
        return []
    inner: list[float] = np.linspace(grid[end], grid[end + 1], _DIVIDED + 1)[1:-1].tolist()
    return inner


def _next(worth: dict[float, float], near: float) -> float | None:
    """The next position to try; None once all near the best are close to one that was tried."""
    positions = sorted(worth)
    best = max(positions, key=lambda u: (worth[u], u))
    index = positions.index(best)
    low, high = positions[max(0, index - 1)], positions[min(index + 1, len(positions) - 1)]
    below, above = best - low, high - best
    if max(below, above) < 1.5 * near:
        return None
    top = _vertex(*((u, worth[u]) for u in (low, best, high)))
    if top is None or max(below, above) > _LOPSIDED * min(below, above):
        return best - _GOLDEN * below if below > above else best + _GOLDEN * above
    if abs(top - best) < near:  # close the bracket around it
        return best - near if below > above else best + near
    return top


Point = tuple[float, float]


def _vertex(one: Point, two: Point, three: Point) -> float | None:
    """Where the parabola through three points is largest; None where there is none."""
    (a, fa), (b, fb), (c, fc) = one, two, three
    left, right = (b - a) * (fb - fc), (b - c) * (fb - fa)
    if not math.isfinite(left) or not math.isfinite(right) or left == right:
        return None
    return b - 0.5 * ((b - a) * left - (b - c) * right) / (left - right)
