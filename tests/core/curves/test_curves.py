"""Comparison of rate-distortion curves: closed forms."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.interpolate import Akima1DInterpolator, PchipInterpolator

import magnetite
from conftest import texture
from magnetite import bd_rate
from magnetite.core.chain.notation import parse_step
from magnetite.core.curves.comparison import (
    bd_quality,
    bd_rate_range,
    compare,
    hull,
    mean_curve,
    overlap,
    rate_at,
)
from magnetite.core.curves.points import Point, _middle
from magnetite.core.curves.study import CurvePoint, Curves
from magnetite.core.errors import InputError
from magnetite.core.operations.selection import Selection

RATES = np.array([0.1, 0.2, 0.5, 1.0, 2.0])


def points(scale: float = 1.0, lift: float = 0.0) -> list[tuple[float, float]]:
    quality = 30 + 7 * np.log2(RATES) + 0.4 * np.log2(RATES) ** 2
    return list(zip(RATES * scale, quality + lift, strict=True))


@given(scale=st.floats(0.6, 1.6), fit=st.sampled_from(["pchip", "akima", "polynomial"]))
def test_a_curve_at_a_multiple_of_the_rate_differs_by_that(scale: float, fit: str) -> None:
    assert bd_rate(points(), points(scale), fit) == pytest.approx(scale - 1, abs=1e-9)


@given(lift=st.floats(-4, 4), fit=st.sampled_from(["pchip", "akima", "polynomial"]))
def test_a_lifted_curve_differs_by_its_lift(lift: float, fit: str) -> None:
    # Its quality is a parabola over log rate, which the polynomial holds exactly.
    assert bd_quality(points(), points(lift=lift), fit) == pytest.approx(lift, abs=1e-9)


def test_straight_lines_give_the_exact_rate_change() -> None:
    line = [(r, 10 * math.log10(r)) for r in (1.0, 2.0, 4.0, 8.0)]
    lifted = [(r, q + 10 * math.log10(1.25)) for r, q in line]
    assert bd_rate(line, lifted) == pytest.approx(-0.2)


def test_curves_that_hardly_overlap_are_refused() -> None:
    short = [(rate, 28 + 3 * rate) for rate in (1, 2, 3, 4)]  # of 31 to 40, 38 to 40 is shared
    with pytest.raises(InputError, match="overlap over 22% of their quality"):
        bd_rate(short, [(rate, 36 + 2 * rate) for rate in (1, 2, 5, 9)])
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


@pytest.mark.parametrize(
    ("call", "name"),
    [
        (lambda a, b: overlap(a, b, over="bits"), "over"),
        (lambda a, b: bd_rate(a, b, better="up"), "better"),
        (lambda a, b: bd_rate(a, b, fit="spline"), "fit"),
    ],
)
def test_a_choice_that_is_none_is_refused(call: Any, name: str) -> None:
    with pytest.raises(InputError, match=f"{name}.* is one of"):
        call(points(), points(2))


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
    for measure in (bd_rate, bd_quality, bd_rate_range):
        with pytest.raises(InputError, match=r"2 points of rising rate and quality; .* from 4"):
            measure(low, high)
    # A point that another surpasses at a lower rate is none.
    with pytest.raises(InputError, match="has 3 points"):
        bd_rate([*points()[:3], (0.6, 1.0)], points())


def test_the_range_of_a_bd_rate_is_that_of_its_points() -> None:
    """Smooth curves of any interpolation agree; a scattered one does not, and that is said."""
    smooth = compare(points(), points(0.8))
    assert smooth.bd_rate == pytest.approx(-0.2, abs=1e-9)
    assert smooth.bd_rate_low is not None
    assert smooth.bd_rate_high is not None
    assert smooth.bd_rate_low <= -0.2 + 1e-9
    assert smooth.bd_rate_high < -0.19
    assert smooth.remark == ""
    jumps = [(r, q + jump) for (r, q), jump in zip(points(), (0, 5.5, 0.2, 6.9, 0), strict=True)]
    rough = compare(points(), jumps)
    assert rough.bd_rate is not None
    assert rough.bd_rate_low is not None
    assert rough.bd_rate_high is not None

    # By hand: each interpolation, and PCHIP without each inner point of either curve.
    def gap(one: Any, two: Any, kind: Any) -> float:
        axes = [(np.array([q for _, q in c]), np.log([r for r, _ in c])) for c in (one, two)]
        low, high = max(a[0][0] for a in axes), min(a[0][-1] for a in axes)
        areas = [kind(*a).integrate(low, high) for a in axes]
        return math.expm1((areas[1] - areas[0]) / (high - low))

    kept = [p for k, p in enumerate(jumps) if all(p[1] > q for _, q in jumps[:k])]
    every = [gap(points(), kept, kind) for kind in (PchipInterpolator, Akima1DInterpolator)]
    every += [gap(points(), [p for p in kept if p != out], PchipInterpolator) for out in kept[1:-1]]
    every += [
        gap([p for p in points() if p != out], kept, PchipInterpolator) for out in points()[1:-1]
    ]
    assert rough.bd_rate_low <= min(every) + 1e-12
    assert rough.bd_rate_high >= max(every) - 1e-12
    assert "interpolations disagree" in rough.remark


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


def test_rates_are_found_by_the_middle_of_a_large_picture() -> None:
    samples = np.arange(600 * 1400, dtype=np.uint32).reshape(600, 1400).astype(np.uint16)
    for rows, columns, expected in (
        (600, 1400, samples[44:556, 444:956]), (600, 300, samples[44:556, :300]),
        (90, 80, samples[:90, :80]),
    ):  # fmt: skip
        whole = magnetite.Picture(samples[:rows, :columns], 16, "gray")
        np.testing.assert_array_equal(_middle(whole).samples, expected)


def test_curves_know_pictures_by_their_samples() -> None:
    """Two of one name are told apart; one that is given twice would count as two."""
    one, two = (np.uint8(255 * texture(24, 32, seed=seed)) for seed in (1, 2))
    curves = magnetite.curve([one, two], ["pcm bits=2,3,4,5"], "psnr", workers=1)
    assert curves.references == ("array 1", "array 2")
    for name, picture in zip(curves.references, (one, two), strict=True):
        alone = magnetite.curve(picture, ["pcm bits=2,3,4,5"], "psnr", workers=1).table().rows
        own = [row for row in curves.table().rows if row[0] == name]
        assert [row[1:] for row in own] == [row[1:] for row in alone]
    with pytest.raises(InputError, match="references 1 and 3 hold the same samples: give one"):
        magnetite.curve([one, two, one.copy()], ["pcm bits=2,3,4,5"], "psnr")
    with pytest.raises(InputError, match="the codec 'pcm' is named twice"):
        magnetite.curve(one, ["pcm", "dct", "pcm"], "psnr")


def test_means_are_over_the_pictures_on_which_all_codecs_are_compared() -> None:
    """On the third picture one codec shares no scores with the first, and no rates."""
    factors = [(0.9, 0.8, 0.5), (0.7, 0.6, 500)]
    scored = Selection.named("metric", "psnr")
    results = [
        CurvePoint(picture, codec, Point(parse_step("dct step=4%", "codec"), rate, 100,
                                         {"psnr": quality + (99 if factor == 500 else 0)}))
        for picture in range(3)
        for codec, factor in enumerate((1, *(own[picture] for own in factors)))
        for rate, quality in points(factor)
    ]  # fmt: skip
    curves = Curves(tuple(results), ("a", "b", "c"), ("first", "one", "other"), scored, (1.0,) * 3)
    found, reasons = curves.comparisons()
    means = {row.codec: row for row in found if row.rate_pictures is not None}
    single = [row.bd_rate for row in found if row.codec == "one" and row.rate_pictures is None]
    assert single == pytest.approx([-0.1, -0.2, -0.5])
    for codec, own in zip(("one", "other"), factors, strict=True):
        row = means[codec]
        assert row.bd_rate == pytest.approx(math.sqrt(own[0] * own[1]) - 1)
        assert (row.rate_pictures, row.quality_pictures) == (2, 2)
        assert row.bd_rate_low < row.bd_rate < row.bd_rate_high
    assert [reason.partition(":")[0] for reason in reasons] == ["other against first, psnr of c"]
