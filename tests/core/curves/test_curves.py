"""Comparison of rate-distortion curves: closed forms."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from magnetite import bd_rate
from magnetite.core.curves.comparison import bd_quality, compare, hull, mean_curve, overlap, rate_at
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
    assert rate_at(line, -1) is None
    assert rate_at(line, 21) is None
    errors = [(r, 100 / r) for r, _ in line]
    assert rate_at(errors, 10, "lower") == pytest.approx(10)
    assert rate_at(errors, 0.5, "lower") is None


@given(scale=st.floats(0.6, 1.6), lift=st.floats(0.5, 2))
def test_errors_are_compared_by_their_own_direction(scale: float, lift: float) -> None:
    errors = [(rate, 1000 / quality**2) for rate, quality in points()]
    cheaper = [(rate * scale, error) for rate, error in errors]
    found = compare(errors, cheaper, "lower")
    assert found.bd_rate == pytest.approx(scale - 1, abs=1e-9)
    assert found.overlap == pytest.approx(1)
    assert found.reason == ""
    worse = [(rate, error + lift) for rate, error in errors]
    assert bd_quality(errors, worse, better="lower") == pytest.approx(lift, abs=1e-9)
    assert bd_rate(errors, [(2 * r, e) for r, e in errors], better="lower") > 0
    unlike = compare(errors, [(rate, error + 99) for rate, error in errors], "lower")
    assert (unlike.bd_rate, unlike.overlap) == (None, 0)
    assert "overlap over 0% of their quality" in unlike.reason


def test_the_mean_curve_lies_where_all_curves_reach() -> None:
    first, second = points(), points(2, 4)
    mean = np.array(mean_curve([first, second]))
    assert mean[0, 0] == pytest.approx(0.2)
    assert mean[-1, 0] == pytest.approx(2.0)
    middle = mean[np.searchsorted(mean[:, 0], 1.0)]
    both = np.interp(np.log(middle[0]), *np.array([(math.log(r), q) for r, q in first]).T)
    assert middle[1] == pytest.approx((both + 4 + 30 + 7 * math.log2(middle[0] / 2)) / 2, abs=0.5)
    assert mean_curve([first, points(100)]) == []


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
