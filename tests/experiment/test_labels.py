"""Labels from tables, and references from names."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from conftest import Run
from magnetite.experiment.labels import _group_of


@pytest.mark.parametrize(
    ("pattern", "group"),
    [(None, "core-12-bad"), (r"^[a-z]+", "core"), (r"-(\d+)-", "12"), (r"(x)?-12", "-12"),
     (r"(core)-(12)", "core")],
)  # fmt: skip
def test_the_group_of_a_name(pattern: str | None, group: str) -> None:
    assert _group_of("core-12-bad", re.compile(pattern) if pattern else None) == group


@pytest.mark.parametrize(
    ("table", "labels"),
    [("test,psnr\na.png,30\n", "accepted\nyes\n"), ("psnr\n30\n", "picture,accepted\na.png,yes\n")],
)
def test_tables_without_pictures_or_labels_are_refused(
    run: Run, tmp_path: Path, table: str, labels: str
) -> None:
    (tmp_path / "t.csv").write_text(table)
    (tmp_path / "l.csv").write_text(labels)
    done = run("gate", "fit", "t.csv", "--labels", "l.csv", status=2)
    assert "a table with a column of pictures and one of labels" in done.stderr
