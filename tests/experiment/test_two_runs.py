"""Two runs compared: rows are paired by content, differences are those that were made."""

from __future__ import annotations

import contextlib
import json
import shutil
import sqlite3
from pathlib import Path

import numpy as np
import pytest
from scipy.stats import t as student

from conftest import Run, write_references

PLAN = """repeats = 2
[references]
files = ["refs/*.png"]
[degradations]
noisy = "gaussian-noise sd=2%,5%"
[treatments]
median = "median"
nothing = "nothing"
[scores]
metrics = "psnr,mae"
"""


@pytest.fixture
def folder(run: Run, tmp_path: Path) -> Path:
    write_references(tmp_path / "refs", 5)
    (tmp_path / "plan.toml").write_text(PLAN)
    run("run", "plan.toml", "--into", "a", "--workers", "1")
    shutil.copytree(tmp_path / "a", tmp_path / "b")
    return tmp_path


def alter(folder: Path, *statements: str) -> None:
    with contextlib.closing(sqlite3.connect(folder / "b" / "ledger.sqlite")) as base:
        for statement in statements:
            assert base.execute(statement).rowcount, statement
        base.commit()


def table(run: Run) -> dict[tuple[str, str], dict[str, float]]:
    rows = json.loads(run("summarize", "a", "b", "--format", "json").stdout)["tables"]["two runs"]
    return {(row["treatment"], row["figure"]): row for row in rows}


def test_equal_runs_are_equal(run: Run, folder: Path) -> None:
    for row in table(run).values():
        assert row["second minus first"] == row["95 % from"] == row["to"] == 0
        assert (row["equal rows"], row["rows"], row["references"]) == (20, 20, 5)


def test_differences_are_paired_by_the_samples_of_the_reference(run: Run, folder: Path) -> None:
    """Names differ, and each reference gains an amount of its own."""
    offsets = {digest: 0.1 * (k + 1) for k, (digest,) in enumerate(
        sqlite3.connect(folder / "b" / "ledger.sqlite").execute(
            "SELECT DISTINCT digest FROM cells ORDER BY digest"))}  # fmt: skip
    alter(folder, "UPDATE plan SET reference = 'other-' || reference", *(
        f"UPDATE scores SET value = value + {offset} WHERE metric = 'psnr' AND cell IN "
        f"(SELECT key FROM cells WHERE digest = '{digest}')" for digest, offset in offsets.items()
    ))  # fmt: skip
    found = table(run)
    gains = np.array(list(offsets.values()))
    reach = student.ppf(0.975, 4) * gains.std(ddof=1) / np.sqrt(5)
    for treatment in ("median", "nothing"):
        row = found[treatment, "psnr"]
        assert row["second minus first"] == pytest.approx(gains.mean(), abs=1e-9)
        assert row["95 % from"] == pytest.approx(gains.mean() - reach, abs=1e-9)
        assert row["to"] == pytest.approx(gains.mean() + reach, abs=1e-9)
        assert row["second"] - row["first"] == pytest.approx(gains.mean(), abs=1e-9)
        assert row["equal rows"] == 0
        assert found[treatment, "mae"]["second minus first"] == 0


def test_rows_without_a_finite_difference_are_counted(run: Run, folder: Path) -> None:
    some = "metric = 'psnr' AND cell = (SELECT key FROM cells WHERE treatment = 'median' LIMIT 1)"
    alter(folder, f"UPDATE scores SET value = 9e999 WHERE {some}")
    assert "psnr: 1 row left out, where it is infinite or missing in one run alone" in (
        run("summarize", "a", "b").stdout
    )
    row = table(run)["median", "psnr"]
    assert (row["equal rows"], row["rows"], row["second minus first"]) == (19, 19, 0)
    alter(folder, f"DELETE FROM scores WHERE {some}")
    assert "mae:" not in (again := run("summarize", "a", "b").stdout)
    assert "psnr: 1 row left out" in again


def test_other_versions_and_files_are_said(run: Run, folder: Path) -> None:
    assert "first run" not in run("summarize", "a", "b").stdout
    marked = "SET cell = 'x' || cell WHERE 'x' || cell IN (SELECT key FROM cells)"
    alter(
        folder,
        "UPDATE facts SET value = json_set(value, '$.mae', '2') WHERE name = 'makers'",
        "UPDATE scores SET makers = '2' WHERE metric = 'mae'",
        "UPDATE cells SET key = 'x' || key WHERE treatment = 'median'",
        *(f"UPDATE {name} {marked}" for name in ("plan", "scores", "timings")),
    )
    told = run("summarize", "a", "b").stdout
    assert (
        "20 rows made by other versions of the methods, or with other files, than in the first run"
        in told
    )
    assert "of another version, or with other files, than in the first run: mae\n" in told
    assert {key[1] for key in table(run)} == {"psnr", "mae"}


def test_one_reference_has_an_interval_over_its_repeats_alone(run: Run, folder: Path) -> None:
    alter(folder, "DELETE FROM plan WHERE reference != '0'", *(
        f"UPDATE scores SET value = value + {gain} WHERE metric = 'psnr' AND cell IN (SELECT key "
        f"FROM cells WHERE seed = {seed})" for seed, gain in ((0, 0.1), (1, 0.3))
    ))  # fmt: skip
    row = table(run)["median", "psnr"]
    assert (row["references"], row["rows"]) == (1, 4)
    assert row["second minus first"] == pytest.approx(0.2)
    assert row["95 % from"] is None  # over two levels of noise
    alter(folder, "DELETE FROM plan WHERE degradation_name = 'noisy' AND cell IN (SELECT key FROM "
          "cells WHERE degradation LIKE '%5%')")  # fmt: skip
    row = table(run)["median", "psnr"]
    assert row["to"] - row["second minus first"] == pytest.approx(student.ppf(0.975, 1) * 0.1)
    assert "paired over the repeats of one reference" in run("summarize", "a", "b").stdout


def test_rows_and_figures_of_one_run_alone_are_named(run: Run, folder: Path) -> None:
    alter(folder, "DELETE FROM plan WHERE treatment_name = 'nothing' AND reference LIKE '%0%'",
          "UPDATE scores SET metric = 'ssim' WHERE metric = 'mae'")  # fmt: skip
    done = run("summarize", "a", "b")
    assert "4 of 40 rows of a are not in the other" in done.stdout
    assert "not compared, as one run lacks it: mae, ssim" in done.stdout
    alter(folder, "UPDATE cells SET seed = seed + 100")
    assert "share no row" in run("summarize", "a", "b", status=2).stderr
    assert "two runs are compared, and 3" in run("summarize", "a", "b", "a", status=2).stderr
    for words in (("--table", "means"), ("--metric", "psnr"), ("--by", "reference")):
        refused = run("summarize", "a", "b", *words, status=2).stderr
        assert "--table, --metric and --by are of one run" in refused
