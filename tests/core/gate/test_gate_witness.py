"""Random gates against a second computation."""

from __future__ import annotations

import numpy as np
import pytest

from magnetite.core.errors import InputError
from magnetite.core.gate.fit import _correlation, _folds, fit_classes
from witness_gates import area, bound, korn_graubard, lowest_cut, ordered, rule, single

NAMES = ("laplacian-variance", "edge-width", "noise-mask")


def ties(chances: list[float]) -> bool:
    """Whether two chances are equal but for rounding, so that either may be the higher one."""
    steps = np.diff(np.sort(chances))
    return bool(((steps > 0) & (steps < 1e-6)).any())


def check(seed: int) -> bool:
    """One random set of pictures; False where it is refused, with its reason."""
    rng = np.random.default_rng(seed)
    count = int(rng.integers(14, 45))
    references = int(rng.choice([rng.integers(2, 8), 100]))
    groups = [f"r{k:03}" for k in rng.integers(0, references, count)]
    accepted = (rng.random(count) < rng.uniform(0.35, 0.65)).tolist()
    used = NAMES[: int(rng.integers(1, 4))]
    gap = rng.uniform(-2, 3)
    table = {
        name: np.round(rng.normal(0, 1, count) + gap * np.array(accepted) * (k + 1) / 2,
                       int(rng.integers(0, 3))).tolist()
        for k, name in enumerate(used)
    }  # fmt: skip
    most, sure = float(rng.choice([0.05, 0.3, 0.6])), float(rng.choice([0.6, 0.9]))
    try:
        found = fit_classes(table, accepted, groups, "0", most, sure)
    except InputError as error:
        assert str(error)
        return False
    for one in found.singles:
        own = single(table[one.figure], accepted, groups, most, sure)
        assert one.accepts == own.accepts
        assert (one.area, one.area_low, one.area_high) == pytest.approx(own.area, abs=1e-7)
        assert (one.false_accepts, one.false_rejects) == pytest.approx(
            (own.false_accepts, own.false_rejects)
        )
        assert one.threshold == pytest.approx(own.cut, abs=1e-9)
    x = np.array([table[feature.name] for feature in found.gate.features]).T
    own = rule(x, accepted, groups)
    weights = [feature.weight for feature in found.gate.features]
    assert [*weights, found.gate.intercept] == pytest.approx(
        [*own.weights, own.intercept], abs=1e-4
    )
    # Chances that tie but for rounding count as any part of a pair.
    moved = [[c + sign * 1e-6 * ok for c, ok in zip(own.chances, accepted, strict=True)]
             for sign in (-1, 1)]  # fmt: skip
    least, most_of = (ordered(values, accepted) for values in moved)
    assert least - 1e-9 <= found.results["area"].share <= most_of + 1e-9
    if most_of - least < 1e-9:
        assert found.results["area"] == pytest.approx(area(own.chances, accepted, groups), abs=1e-6)
    if not ties(own.chances):
        cut = min(max(lowest_cut(own.chances, accepted, groups, most, sure), 1e-9), 1 - 1e-9)
        assert found.gate.threshold == pytest.approx(cut, abs=1e-4)
        bad = [(c >= cut, g) for c, g, ok in zip(own.chances, groups, accepted, strict=True)
               if not ok]  # fmt: skip
        good = [(c < cut, g) for c, g, ok in zip(own.chances, groups, accepted, strict=True) if ok]
        for name, flagged in (("false accepts", bad), ("false rejects", good)):
            flags, of = map(list, zip(*flagged, strict=True))
            assert found.results[name] == pytest.approx(korn_graubard(flags, of), abs=1e-7)
        assert found.promise is not None
        flags, of = map(list, zip(*bad, strict=True))
        assert found.promise.false_accepts == pytest.approx(bound(flags, of, sure), abs=1e-6)
        assert found.promise.references == len(set(of))
    for figures in rng.normal(0, 2, (5, len(used))):
        named = dict(zip((f.name for f in found.gate.features), figures.tolist(), strict=True))
        chance = own.chance(figures)
        if abs(chance - found.gate.threshold) > 0.01:
            verdict = found.gate.judge(named)
            assert verdict.accepted == (chance >= found.gate.threshold)
    return True


def test_gates_are_those_of_a_second_computation() -> None:
    assert sum(check(seed) for seed in range(20)) >= 8


@pytest.mark.long
def test_three_hundred_gates_are_those_of_a_second_computation() -> None:
    assert sum(check(seed) for seed in range(1000, 1300)) >= 150


def test_folds_of_one_reference_hold_both_classes_and_of_several_whole_references() -> None:
    labels = np.random.default_rng(1).random(43) < 0.3
    folds, told = _folds(["r"] * 43, labels)
    assert sorted(set(folds)) == list(range(5))
    for held in (np.ones(43, bool), labels):
        sizes = np.bincount(folds[held], minlength=5)
        assert sizes.max() - sizes.min() <= 1
    assert "one reference" in told[0]
    groups = [f"r{k % 7}" for k in range(43)]
    folds, told = _folds(groups, labels)
    assert not told
    assert sorted(set(folds)) == list(range(5))
    assert len(set(zip(folds, groups, strict=True))) == 7


def test_a_prediction_that_is_exact_has_a_correlation_of_1() -> None:
    x = np.array([1.0, 2.0, 4.0, 7.0, 9.0, 3.0])
    assert tuple(_correlation(x, 2 * x + 1, np.arange(6))) == pytest.approx((1, 1, 1))
    assert tuple(_correlation(x, -x, np.arange(6))) == pytest.approx((-1, -1, -1))
