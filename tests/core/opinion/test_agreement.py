"""Agreement of a metric with opinions: the mapping, correlations, and their differences."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

from magnetite.core.opinion.agreement import agreement, fitted_mapping, steiger


@pytest.mark.parametrize("falls", [False, True])
def test_a_mapping_finds_the_curve_that_made_the_opinions(falls: bool) -> None:
    x = np.linspace(20, 50, 40)
    y = 1.2 + 3.5 / (1 + np.exp(-(x - 33) / 4))
    x = -x if falls else x
    mapping = fitted_mapping(x, y, "lower" if falls else "higher")
    np.testing.assert_allclose(mapping(x), y, atol=1e-3)
    assert mapping.inverse(3.0) == pytest.approx(
        (-1 if falls else 1) * (33 + 4 * math.log(1.8 / 1.7)), abs=0.02
    )
    assert mapping.inverse(6.0) is None
    step = 1e-4
    slope = (mapping(x[:1] + step) - mapping(x[:1] - step))[0] / (2 * step)
    assert mapping.slope(float(x[0])) == pytest.approx(slope, rel=1e-5)


@pytest.mark.long
@pytest.mark.parametrize(("count", "known"), [(8, 0.6), (8, 0.95), (14, 0.9), (40, 0.8)])
def test_intervals_of_agreement_hold(count: int, known: float) -> None:
    """Bivariate normal figures and opinions of known correlation."""
    rng, held, chances = np.random.default_rng(0), [], []
    rank = 6 / math.pi * math.asin(known / 2)
    for _ in range(200):
        one, other, y = correlated(rng, count, known)
        found = agreement(one, y, "higher")
        held.append(
            [found.pearson.low <= known <= found.pearson.high,
             found.spearman.low <= rank <= found.spearman.high]
        )  # fmt: skip
        chances.append(steiger(one, other, y))
    assert (np.mean(held, axis=0) >= 0.9).all()
    # Two metrics that are alike: a chance below 5 % in 5 % of the cases.
    assert np.mean(np.array(chances) < 0.05) <= 0.1


def correlated(
    rng: np.random.Generator, count: int = 40, known: float = 0.8
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Two figures of a known correlation with the opinions, and these."""
    y = rng.normal(size=count)
    rest = math.sqrt(1 - known**2)
    one, other = (known * y + rest * rng.normal(size=count) for _ in range(2))
    return one, other, y


def test_agreement_is_that_of_its_formulas() -> None:
    rng = np.random.default_rng(0)
    one, _, y = correlated(rng)
    found = agreement(one, y, "higher")
    total = float(np.sum((found.mapping(one) - y) ** 2))
    assert found.rmse.value == pytest.approx(math.sqrt(total / 36))
    ends = [math.sqrt(total / stats.chi2.ppf(p, 36)) for p in (0.975, 0.025)]
    assert [found.rmse.low, found.rmse.high] == pytest.approx(ends)
    rank = found.spearman.value
    for one_of, spread in ((found.pearson, 1 / 35), (found.spearman, (1 + rank**2 / 2) / 37)):
        z = math.atanh(one_of.value)
        ends = [math.tanh(z + sign * 1.959964 * math.sqrt(spread)) for sign in (-1, 1)]
        assert [one_of.low, one_of.high] == pytest.approx(ends, rel=1e-6)
    # The order of eight pictures without a fault: as one exchange of neighbours counted half.
    few = agreement(np.arange(8.0), np.arange(8.0) ** 2, "higher").spearman
    z = math.atanh(1 - 3 / (8 * 63 / 2))
    assert few.value == few.high == 1
    assert few.low == pytest.approx(math.tanh(z - 1.959964 * math.sqrt(1.5 / 5)))
    worse = 0.5 * y + 0.87 * rng.normal(size=40)
    assert steiger(y + 0.1 * rng.normal(size=40), worse, y) < 1e-6
    assert steiger(one, one, y) == 1
    # Of a metric of which the lower is better its opposite; for one that contradicts, below 0.
    turned, against = agreement(-one, y, "lower"), agreement(one, y, "lower")
    assert turned.pearson.value == pytest.approx(found.pearson.value)
    assert turned.spearman.value == found.spearman.value == -against.spearman.value
    assert against.pearson.value == 0
    for _ in range(8):  # whichever flat curve the fit ends at
        other, _, opinions = correlated(rng)
        assert agreement(other, opinions, "lower").pearson.value == 0
    assert steiger(found.predicted, against.predicted, y) < 1e-3
    assert steiger(against.predicted, np.ones(40), y) > 0.9
    assert against.rmse.value > 0.95 * y.std()


def test_the_test_of_two_correlations_is_its_published_formula() -> None:
    """Steiger, Psychological Bulletin 87(2), 1980, equations 3, 11 and 14."""
    rng = np.random.default_rng(12)
    y = rng.normal(size=30)
    one, other = (a * y + b * rng.normal(size=30) for a, b in ((0.8, 0.5), (0.6, 0.8)))
    r1, r2, r12 = (np.corrcoef(a, b)[0, 1] for a, b in ((one, y), (other, y), (one, other)))
    square = ((r1 + r2) / 2) ** 2
    shared = r12 * (1 - square - square) - square / 2 * (1 - square - square - r12**2)
    z = (math.atanh(r1) - math.atanh(r2)) * math.sqrt(27 / (2 - 2 * shared / (1 - square) ** 2))
    assert steiger(one, other, y) == pytest.approx(2 * stats.norm.sf(abs(z)))
    assert 0.001 < steiger(one, other, y) < 0.9
