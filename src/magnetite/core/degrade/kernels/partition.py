"""Partition of a sorted histogram into cells of least squared error, compiled."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float64, Indices
from magnetite.core.compute.jit import compiled


@compiled()
def cheapest_path(mass: Float64, moment: Float64, square: Float64, price: float) -> Indices:
    """Ends of the cells whose squared error and number times `price` together are least.

    `mass`, `moment`, `square` are sums of weights, weights times values and weights times squared
    values up to each value, from 0 on. The cost of cells obeys the quadrangle inequality, so that
    the best beginning of a cell never moves back as its end moves on: candidates stand in a queue,
    each with the first end from which on it is best (Galil and Park, Theoretical Computer Science
    92(1), 1992, doi:10.1016/0304-3975(92)90135-3).

    Returns
    -------
    int array
        From 0 to the number of values.
    """
    n = mass.size - 1
    best, origin = np.zeros(n + 1), np.zeros(n + 1, np.intp)
    queue, first = np.zeros(n + 1, np.intp), np.zeros(n + 1, np.intp)
    head, tail = 0, 1
    first[0] = 1
    for end in range(1, n + 1):
        while head + 1 < tail and first[head + 1] <= end:
            head += 1
        start = queue[head]
        best[end] = best[start] + _cost(mass, moment, square, start, end) + price
        origin[end] = start
        if end == n:
            break
        # From which end on does a cell that begins here cost less than the last candidate's?
        turn = n + 1
        while tail > head:
            last, since = queue[tail - 1], max(first[tail - 1], end + 1)
            if _worth(best, mass, moment, square, end, since) <= _worth(
                best, mass, moment, square, last, since
            ):
                turn = since
                tail -= 1
                continue
            low, high = since, n + 1
            while high - low > 1:
                middle = (low + high) // 2
                if _worth(best, mass, moment, square, end, middle) <= _worth(
                    best, mass, moment, square, last, middle
                ):
                    high = middle
                else:
                    low = middle
            turn = high
            break
        if turn <= n:
            queue[tail], first[tail] = end, turn
            tail += 1
    cells = 0
    end = n
    while end > 0:
        cells += 1
        end = origin[end]
    ends = np.zeros(cells + 1, np.intp)
    end = n
    for k in range(cells, 0, -1):
        ends[k] = end
        end = origin[end]
    return ends


@compiled()
def _worth(
    best: Float64, mass: Float64, moment: Float64, square: Float64, start: int, end: int
) -> float:
    return float(best[start] + _cost(mass, moment, square, start, end))


@compiled()
def _cost(mass: Float64, moment: Float64, square: Float64, start: int, end: int) -> float:
    """Squared error of the values from `start` to before `end` about their mean."""
    weight, total = mass[end] - mass[start], moment[end] - moment[start]
    return float(square[end] - square[start] - total * total / weight)
