"""The search for the best value of a setting."""

from __future__ import annotations

import math
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from magnetite.core.solve.axis import Axis, Span
from magnetite.core.solve.best import largest
from magnetite.core.solve.bisection import zero
from magnetite.core.solve.bracket import MOST_TRIES, Goal, Search

_AXIS = Axis(Span(0.0, 100.0), 4)
#: A ninth of the stride of a grid of 13 positions over four powers of ten.
_NEAR = math.log(1e4) / 12 / 9


def _counted(worth: Callable[[float], float]) -> tuple[float, int]:
    tried: list[float] = []

    def value(number: float) -> float:
        tried.append(number)
        return worth(math.log(number))

    return math.log(largest(_AXIS, value)), len(tried)


@given(
    top=st.floats(math.log(0.01), math.log(100)),
    below=st.floats(0.1, 10),
    above=st.floats(0.1, 10),
    power=st.sampled_from([1.0, 1.5, 2.0, 4.0]),
)
def test_one_summit_is_found_in_few_tries(
    top: float, below: float, above: float, power: float
) -> None:
    """However much steeper it is on one side."""

    def worth(u: float) -> float:
        return -((below * (top - u)) ** power if u < top else (above * (u - top)) ** power)

    found, tries = _counted(worth)
    reached, nearest = worth(found), max(worth(top - _NEAR), worth(top + _NEAR))
    assert tries <= 21
    assert abs(found - top) <= 2.1 * _NEAR or reached >= nearest


def test_a_parabola_takes_fewer_tries_than_a_finer_grid() -> None:
    found, tries = _counted(lambda u: -((u - 1.234) ** 2))
    assert found == pytest.approx(1.234, abs=_NEAR)
    assert tries <= 17


@pytest.mark.parametrize("value", [0.0, math.inf, -math.inf])
def test_a_flat_figure_ends_the_search(value: float) -> None:
    _, tries = _counted(lambda u: value)
    assert tries <= 21


def test_a_summit_after_a_plateau_is_found() -> None:
    """Narrow filters change no digital number: the figure is flat, then rises and falls."""
    top = math.log(0.38)
    found, _ = _counted(lambda u: 0.0 if u < top - 0.4 else 1 - abs(u - top) / 0.2)
    assert abs(found - top) < 0.1
    flat, _ = _counted(lambda u: -max(0.0, u))
    assert flat == pytest.approx(_AXIS.low)


def test_bounds_of_the_goal_and_of_the_tries_are_kept() -> None:
    assert Goal(1.0, 0.5).satisfied(0.5)
    assert not Goal(1.0, 0.5).satisfied(0.500001)
    assert Goal(1.0, 0.5, ">=").satisfied(0.0)
    assert not Goal(1.0, 0.5, ">=").satisfied(-1e-9)
    assert Goal(1.0, 0.5, "<=").satisfied(0.0)
    assert not Goal(1.0, 0.5, "<=").satisfied(1e-9)
    search = Search(lambda x: x**3, _AXIS, repr, Goal(7.0, 0.0))
    number, _ = search.run()
    assert search.tries == MOST_TRIES
    assert number == pytest.approx(7 ** (1 / 3), rel=1e-3)


@pytest.mark.parametrize("within", [0.0, 1e-30, 1e-6])
@pytest.mark.parametrize("root", [0.5, 3e8, -7e-12])
def test_bisection_ends_where_numbers_are_neighbours(root: float, within: float) -> None:
    found = zero(lambda x: x - root, root - abs(root), root + 2 * abs(root), within)
    assert found == pytest.approx(root, rel=1e-15, abs=within)
