"""Labels from tables, and references from names."""

from __future__ import annotations

import math
import re
from pathlib import Path

import pytest

import magnetite
from conftest import Run, write_references
from magnetite.core.errors import InputError
from magnetite.experiment.labels import _group_of, gauge_folders, read_labelled


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


def test_names_that_mean_nothing_elsewhere_are_names(run: Run, tmp_path: Path) -> None:
    names = ["NA", "nan", "null", "None", "007", "7", "1e5", "True", "n/a", "inf", "a", "b"]
    table = ["test,psnr", *(f"{name},{30 + k}" for k, name in enumerate(names)), "c,45", "d,"]
    labels = ["picture,verdict", *(f"{n},{'accepted' if k % 2 else 'rejected'}"
                                   for k, n in enumerate(names)), "c,NA", "d,accepted"]  # fmt: skip
    (tmp_path / "t.csv").write_text("\n".join(table) + "\n")
    (tmp_path / "l.csv").write_text("\n".join(labels) + "\n")
    found = read_labelled(tmp_path / "t.csv", None, tmp_path / "l.csv", None, None)
    assert found.pictures == [*names, "d"]
    assert found.groups == [*names, "d"]
    assert found.labels == [*(bool(k % 2) for k in range(12)), True]
    assert found.figures["psnr"][:12] == [30 + k for k in range(12)]
    assert math.isnan(found.figures["psnr"][12])
    assert found.remarks[0] == "1 of 14 pictures left out, without a label"
    (tmp_path / "t.csv").write_text("picture,reference,psnr\n,a,30\n,nan,31\n")
    done = run("gate", "fit", "t.csv", "--labels", "l.csv", status=2)
    assert "none of the labels is of a picture of the table" in done.stderr


def test_copies_of_a_picture_count_once_and_under_one_label(tmp_path: Path) -> None:
    good, bad = tmp_path / "good", tmp_path / "bad"
    write_references(good, 3)
    write_references(bad, 1)
    (bad / "0.png").unlink()
    worn = magnetite.degrade(magnetite.read(good / "0.png"), "gaussian-noise sd=5%").picture
    magnetite.write(worn, bad / "0.png")
    magnetite.write(magnetite.read(good / "1.png"), good / "copy.tif")
    data = gauge_folders(good, bad, "sd")
    assert data.labels == [True, True, True, False]
    assert len(data.figures["sd"]) == 4
    assert data.remarks[0] == f"copies of other pictures left out: {good}/copy.tif of {good}/1.png"
    assert data.remarks[1].startswith("each of the 3 names counts as a reference of its own")
    magnetite.write(worn, good / "worn.tif")
    with pytest.raises(InputError, match=r"worn.tif and .*0.png hold the same samples, under both"):
        gauge_folders(good, bad, "sd")
