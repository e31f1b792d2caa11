"""Comparison of rate-distortion curves: closed forms."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from magnetite import bd_rate
from magnetite.core.curves import bd_quality, rate_at
from magnetite.core.errors import InputError

RATES = np.array([0.1, 0.2, 0.5, 1.0, 2.0])


def points(scale: float = 1.0, lift: float = 0.0) -> list[tuple[float, float]]:
    quality = 30 + 7 * np.log2(RATES) + 0.4 * np.log2(RATES) ** 2
    return list(zip(RATES * scale, quality + lift, strict=True))


@given(scale=st.floats(0.6, 1.6))
def test_a_curve_at_a_multiple_of_the_rate_differs_by_that(scale: float) -> None:
    assert bd_rate(points(), points(scale)) == pytest.approx(scale - 1, abs=1e-9)


@given(lift=st.floats(-4, 4))
def test_a_lifted_curve_differs_by_its_lift(lift: float) -> None:
    assert bd_quality(points(), points(lift=lift)) == pytest.approx(lift, abs=1e-9)


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
