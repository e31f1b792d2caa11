"""The table of interactions: the best of each group, and a test of known size and power."""

from __future__ import annotations

import itertools

import numpy as np
import pandas as pd
import pytest

from magnetite.core.analysis.interaction import interaction
from magnetite.experiment.interactions import interactions
from magnetite.experiment.results import RunRows


def chance_by_definition(values: np.ndarray) -> float:
    """All signs of all units, every one written out."""
    units, treatments, groups = values.shape
    left = np.array([
        [[one[t, g] - one[t].mean() - one[:, g].mean() + one.mean() for g in range(groups)]
         for t in range(treatments)] for one in values
    ])  # fmt: skip
    found = [
        float((np.mean([s * part for s, part in zip(signs, left, strict=True)], axis=0) ** 2).sum())
        for signs in itertools.product((1, -1), repeat=units)
    ]
    return float(np.mean(np.array(found) >= found[0] * (1 - 1e-12)))


def test_the_chance_is_that_of_all_signs() -> None:
    rng = np.random.default_rng(0)
    for units in (5, 6):
        values = rng.normal(size=(units, 3, 2)) + np.arange(3)[:, None]
        assert interaction(values) == pytest.approx(chance_by_definition(values))
    assert interaction(values[:4]) is None
    assert interaction(values[:, :1]) is None
    assert interaction(values[:, :, :1]) is None


def test_the_test_keeps_its_level_and_sees_a_change() -> None:
    rng = np.random.default_rng(1)
    main = np.array([[0.0], [2.0], [5.0]]) + np.array([[0.0, 9.0, 3.0]])
    for units in (9, 20):
        none = [interaction(main + rng.normal(size=(units, 3, 3))) for _ in range(300)]
        assert np.mean(np.array(none, float) < 0.05) <= 0.09
        assert np.mean(np.array(none, float) < 0.5) == pytest.approx(0.5, abs=0.1)
        change = main.copy()
        change[0, 2] += 2
        assert interaction(change + rng.normal(size=(units, 3, 3))) < 0.05


def rows(swap: bool) -> RunRows:
    """Treatment b is better by 2 under weak noise, and under strong noise too unless swapped."""
    rng = np.random.default_rng(3)
    made = []
    for reference in range(8):
        for name, chain in (("noise", "noise sd=1dn"), ("noise", "noise sd=9dn")):
            sign = -1 if swap and chain.endswith("9dn") else 1
            for treatment in ("a", "b"):
                gain = 2 * sign * (treatment == "b") + rng.normal(0, 0.2)
                made.append(
                    {"reference": f"r{reference}", "degradation": chain, "degradation name": name,
                     "repeat": 0, "seed": 0, "treatment": treatment, "treatment name": treatment,
                     "status": "done", "reason": "", "bpp": None, "psnr": 30 + reference + gain}
                )  # fmt: skip
    return RunRows.of(pd.DataFrame(made), ["psnr"])


@pytest.mark.parametrize("swap", [False, True])
def test_the_best_of_each_group_and_the_sentence(swap: bool) -> None:
    table = interactions(rows(swap), "psnr")
    assert table is not None
    frame = table.frame.set_index("group")
    assert frame.loc["noise (1)", "best"] == "b"
    assert frame.loc["noise (2)", "best"] == ("a" if swap else "b")
    own = rows(swap).frame
    means = own[own["degradation"] == "noise sd=9dn"].groupby("treatment")["psnr"].mean()
    assert frame.loc["noise (2)", "mean psnr"] == pytest.approx(means.max())
    assert frame.loc["noise (2)", "minus the best"] == pytest.approx(means.min() - means.max())
    assert frame.loc["noise (2)", "ahead %"] == 100
    said = table.notes[0]
    if swap:
        assert "2 treatments are best for some degradation" in said
        assert (
            "change with the degradation (p 0.0078, over the 8 references that have every" in said
        )
    else:
        assert "the same for every degradation" in said
        assert "are not shown to change" in said
    assert "is not tested: it takes 5 degradations" in table.notes[1]


def test_the_lowest_is_ahead_where_low_is_better() -> None:
    frame = rows(swap=True).frame
    errors = RunRows.of(frame.assign(mse=100 - frame["psnr"]), ["mse"])
    table, mirrored = interactions(rows(swap=True), "psnr"), interactions(errors, "mse")
    assert table is not None
    assert mirrored is not None
    same = ["group", "best", "second", "ahead %"]
    pd.testing.assert_frame_equal(table.frame[same], mirrored.frame[same])
    gaps, losses = (one.frame["minus the best"].tolist() for one in (table, mirrored))
    assert gaps == pytest.approx([-loss for loss in losses])
