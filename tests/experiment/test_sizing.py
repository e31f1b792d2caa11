"""The difference that an experiment can show, and the size of one in words."""

from __future__ import annotations

from itertools import combinations
from pathlib import Path

import numpy as np
import pytest

from magnetite.core.analysis.simultaneous import _squares, pairwise, simultaneous
from magnetite.experiment.plan_reading import read_plan
from magnetite.experiment.sizing import Size, _smallest, size_of
from small_runs import PLAN, carried_out, picture_at


@pytest.mark.parametrize(("references", "treatments"), [(4, 2), (60, 2), (3, 4), (6, 3), (12, 9)])
def test_the_smallest_difference_is_found_in_four_of_five_experiments(
    references: int, treatments: int
) -> None:
    """Of two treatments, where all pairs are judged together, by experiments drawn as such."""
    smallest = _smallest(references, treatments)
    assert smallest is not None
    values = np.random.default_rng(1).standard_normal((20_000, references, treatments))
    pairs = combinations(range(treatments), 2)
    every = np.stack([values[..., two] - values[..., one] for one, two in pairs], axis=2)
    errors = every.std(axis=1, ddof=1) / references**0.5
    limit = np.quantile((abs(every.mean(axis=1)) / errors).max(axis=1), 0.95)
    shown = (every.mean(axis=1) + smallest * 2**0.5)[:, 0] > limit * errors[:, 0]
    assert shown.mean() == pytest.approx(0.8, abs=0.02)
    assert _smallest(1, treatments) is None
    assert _smallest(references, 1) is None


def test_a_size_in_words() -> None:
    lines = Size(24, 3, 4, 2, 200.0, 3 * 2**19, 5, 1.234).lines()
    assert lines[0] == "24 rows of 3 figures: 4 references, 2 repeats"
    assert lines[1].startswith("about 3 min on ")
    assert lines[1].endswith("; 1.5 MiB on disk, pictures apart")
    assert lines[2] == (
        "a difference of two of the 5 treatments shows (power 80 %, level 5 % for all pairs "
        "together) from 1.23 times its sd between references"
    )
    two = Size(24, 3, 4, 2, 200.0, 0.0, 2, 0.5).lines()[2]
    assert "of the two treatments shows (power 80 %, level 5 %) from 0.50 times" in two
    assert "says nothing about others" in Size(1, 1, 1, 1, 89.0, 0.0, 2, None).lines()[2]
    assert "compared with no other" in Size(1, 1, 2, 1, 89.0, 0.0, 1, None).lines()[2]
    for seconds, words in ((89.4, "89 s"), (91.0, "2 min"), (5500.0, "1.5 h")):
        assert f"about {words} on" in Size(1, 1, 1, 1, seconds, 0.0, 2, None).lines()[1]


@pytest.mark.parametrize("metrics", ["psnr", "psnr,mse,rmse,mae,snr,nrmse,max-error"])
def test_rows_take_the_disk_space_that_is_estimated(metrics: str, tmp_path: Path) -> None:
    """What eight times the repeats add to the folder of the run."""
    picture_at(tmp_path / "refs" / "0.png", 0)
    space, sizes = [], []
    for repeats in (4, 32):
        text = f"repeats = {repeats}\n{PLAN}[scores]\nmetrics = '{metrics}'\n"
        carried_out(tmp_path, text, f"run{repeats}")
        files = (tmp_path / f"run{repeats}").rglob("*")
        space.append(sum(path.stat().st_size for path in files))
        sizes.append(size_of(read_plan(tmp_path / "plan.toml"), tmp_path))
    assert [one.rows for one in sizes] == [8, 64]
    assert space[1] - space[0] == pytest.approx(sizes[1].disk - sizes[0].disk, rel=0.25)


@pytest.mark.parametrize(
    "contrasts", [pairwise(5), np.eye(5), 3 * pairwise(5) + 0.5 * np.eye(5)[:1]]
)
def test_sums_of_squares_of_contrasts_are_those_of_their_values(contrasts: np.ndarray) -> None:
    rows = np.random.default_rng(2).standard_normal((7, 3, 5))
    if np.count_nonzero(contrasts, axis=1).max() > 2:
        with pytest.raises(ValueError, match="each is of two treatments"):
            simultaneous(rows[0], contrasts)
        return
    found = _squares(np.swapaxes(rows, 1, 2) @ rows, contrasts)
    np.testing.assert_allclose(found, ((rows @ contrasts.T) ** 2).sum(axis=1), rtol=1e-12)
