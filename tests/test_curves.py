"""Comparison of rate-distortion curves: closed forms."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from magnetite import bd_rate
from magnetite.core.curves import bd_quality, hull, overlap, rate_at
from magnetite.core.errors import InputError

RATES = np.array([0.1, 0.2, 0.5, 1.0, 2.0])


def points(scale: float = 1.0, lift: float = 0.0) -> list[tuple[float, float]]:
    quality = 30 + 7 * np.log2(RATES) + 0.4 * np.log2(RATES) ** 2
    return list(zip(RATES * scale, quality + lift, strict=True))


@given(scale=st.floats(0.6, 1.6), fit=st.sampled_from(["pchip", "polynomial"]))
def test_a_curve_at_a_multiple_of_the_rate_differs_by_that(scale: float, fit: str) -> None:
    assert bd_rate(points(), points(scale), fit) == pytest.approx(scale - 1, abs=1e-9)


@given(lift=st.floats(-4, 4), fit=st.sampled_from(["pchip", "polynomial"]))
def test_a_lifted_curve_differs_by_its_lift(lift: float, fit: str) -> None:
    # Its quality is a parabola over log rate, which the polynomial holds exactly.
    assert bd_quality(points(), points(lift=lift), fit) == pytest.approx(lift, abs=1e-9)


def test_straight_lines_give_the_exact_rate_change() -> None:
    line = [(r, 10 * math.log10(r)) for r in (1.0, 2.0, 4.0)]
    lifted = [(r, q + 10 * math.log10(1.25)) for r, q in line]
    assert bd_rate(line, lifted) == pytest.approx(-0.2)


def test_curves_that_hardly_overlap_are_refused() -> None:
    with pytest.raises(InputError, match="overlap over 0% of their quality"):
        bd_rate(points(), points(lift=100))
    with pytest.raises(InputError, match="at least 2 points"):
        bd_rate(points()[:1], points())


def test_rate_at_a_quality() -> None:
    line = [(r, 10 * math.log10(r)) for r in (1.0, 10.0, 100.0)]
    assert rate_at(line, 5) == pytest.approx(10**0.5)
    assert rate_at(line, -1) == 1
    assert rate_at(line, 21) is None


def test_overlap_is_the_shared_part_of_the_smaller_range() -> None:
    low, high = [(1.0, 10.0), (2.0, 20.0)], [(2.0, 15.0), (8.0, 55.0)]
    assert overlap(low, high) == pytest.approx(0.5)
    assert overlap(low, high, over="rate") == 0
    with pytest.raises(InputError, match="needs 4 points, not 2"):
        bd_rate(low, high, "polynomial")


@given(
    st.lists(
        st.tuples(st.integers(1, 1000), st.integers(0, 1000)),
        min_size=3, max_size=12, unique_by=(lambda p: p[0], lambda p: p[1]),
    )
)  # fmt: skip
def test_no_point_lies_above_the_hull(cloud: list[tuple[int, int]]) -> None:
    points = [(rate / 100, quality / 10) for rate, quality in cloud]
    try:
        corners = np.array(hull(points))
    except InputError:
        return  # no point is better than the cheapest
    assert {tuple(corner) for corner in corners.tolist()} <= set(points)
    for rate, quality in points:
        if corners[0, 0] <= rate <= corners[-1, 0]:
            assert quality <= np.interp(rate, *corners.T) + 1e-9
    assert corners[-1, 1] == max(quality for _, quality in points)
