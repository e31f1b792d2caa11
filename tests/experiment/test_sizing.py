"""The difference that an experiment can show, and the size of one in words."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from scipy import stats

from magnetite.experiment.plan_reading import read_plan
from magnetite.experiment.sizing import Size, _smallest, size_of
from small_runs import PLAN, carried_out, picture_at


@pytest.mark.parametrize("references", [4, 12, 60])
def test_the_smallest_difference_is_found_in_four_of_five_experiments(references: int) -> None:
    """By the noncentral distribution of Student's t."""
    smallest = _smallest(references)
    assert smallest is not None
    free, shift = references - 1, smallest * np.sqrt(references)
    limit = stats.t.ppf(0.975, free)
    power = stats.nct.sf(limit, free, shift) + stats.nct.cdf(-limit, free, shift)
    assert power == pytest.approx(0.8, abs=0.02)
    assert _smallest(1) is None


def test_a_size_in_words() -> None:
    lines = Size(24, 3, 4, 2, 200.0, 3 * 2**19, 1.234).lines()
    assert lines[0] == "24 rows of 3 figures: 4 references, 2 repeats"
    assert lines[1].startswith("about 3 min on ")
    assert lines[1].endswith("; 1.5 MiB on disk, pictures apart")
    assert "from 1.23 times its sd between references" in lines[2]
    assert "says nothing about others" in Size(1, 1, 1, 1, 89.0, 0.0, None).lines()[2]
    for seconds, words in ((89.4, "89 s"), (91.0, "2 min"), (5500.0, "1.5 h")):
        assert f"about {words} on" in Size(1, 1, 1, 1, seconds, 0.0, None).lines()[1]


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
