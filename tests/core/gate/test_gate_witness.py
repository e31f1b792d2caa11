"""Random gates against a second computation."""

from __future__ import annotations

import numpy as np
import pytest

from magnetite.core.errors import InputError
from magnetite.core.gate.fit import fit_classes
from witness_gates import area, clopper_pearson, lowest_cut, rule, single

NAMES = ("laplacian-variance", "edge-width", "noise-mask")


def check(seed: int) -> bool:
    """One random set of pictures; False where it is refused, with its reason."""
    rng = np.random.default_rng(seed)
    count, references = int(rng.integers(14, 45)), int(rng.integers(2, 8))
    groups = [f"r{k}" for k in rng.integers(0, references, count)]
    accepted = (rng.random(count) < rng.uniform(0.35, 0.65)).tolist()
    used = NAMES[: int(rng.integers(1, 4))]
    gap = rng.uniform(-2, 3)
    table = {
        name: np.round(rng.normal(0, 1, count) + gap * np.array(accepted) * (k + 1) / 2,
                       int(rng.integers(0, 3))).tolist()
        for k, name in enumerate(used)
    }  # fmt: skip
    most = float(rng.choice([0.02, 0.05, 0.2]))
    try:
        found = fit_classes(table, accepted, groups, "0", most)
    except InputError as error:
        assert str(error)
        return False
    for one in found.singles:
        own = single(table[one.figure], accepted, most)
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
    least, most_of = (area(values, accepted)[0] for values in moved)
    assert least - 1e-9 <= found.results["area"].share <= most_of + 1e-9
    if most_of - least < 1e-9:
        assert found.results["area"] == pytest.approx(area(own.chances, accepted), abs=1e-6)
    cut = min(max(lowest_cut(own.chances, accepted, most), 1e-9), 1 - 1e-9)
    assert found.gate.threshold == pytest.approx(cut, abs=1e-4)
    bad = [c for c, ok in zip(own.chances, accepted, strict=True) if not ok]
    good = [c for c, ok in zip(own.chances, accepted, strict=True) if ok]
    for name, hits, among in (
        ("false accepts", sum(c >= cut for c in bad), len(bad)),
        ("false rejects", sum(c < cut for c in good), len(good)),
    ):
        # Chances that nearly tie may fall on either side of the cut.
        ties = sum(abs(c - cut) < 1e-6 for c in own.chances)
        near = [clopper_pearson(k, among)
                for k in range(max(0, hits - ties), min(among, hits + ties) + 1)]  # fmt: skip
        assert any(found.results[name] == pytest.approx(one, abs=1e-9) for one in near)
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
