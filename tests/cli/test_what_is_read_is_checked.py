"""Ledgers, gates, plans and models that are damaged or hostile: one clear line, status 2."""

from __future__ import annotations

import copy
import json
import shutil
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import magnetite
from conftest import Run, texture
from magnetite.core.errors import InputError
from magnetite.core.picture import as_picture
from magnetite.experiment.labels import read_labelled
from magnetite.experiment.ledger import _KINDS

JUNK: list[Any] = [None, "text", -1, 1e400, [], {}, True, [[]], "\0", float("nan"), 2**70]


def pictures(folder: Path, count: int, blur: float, seed: int = 0) -> None:
    folder.mkdir()
    for k in range(count):
        picture = as_picture((255 * texture(48, 48, seed=seed + k)).astype(np.uint8))
        if blur:
            picture = magnetite.degrade(picture, f"gaussian-blur sigma={blur}px").picture
        magnetite.write(picture, folder / f"tray{k}.png")


@pytest.fixture
def gated(run: Run, tmp_path: Path) -> Path:
    pictures(tmp_path / "good", 6, 0)
    pictures(tmp_path / "bad", 6, 2)
    run("gate", "fit", "--accepted", "good", "--rejected", "bad", "--metrics",
        "laplacian-variance,noise-wavelet")  # fmt: skip
    return tmp_path


def mutated(record: Any) -> Iterator[Any]:
    """The record with each of its values replaced by junk, and with each key left out."""
    keys = list(record) if isinstance(record, dict) else range(len(record))
    for key in keys:
        for junk in JUNK:
            copied = copy.deepcopy(record)
            copied[key] = junk
            yield copied
        if isinstance(record, dict):
            yield {k: v for k, v in record.items() if k != key}
        if isinstance(record[key], dict | list) and record[key]:
            for inner in mutated(record[key]):
                copied = copy.deepcopy(record)
                copied[key] = inner
                yield copied


def clear(run: Run, *words: str, allowed: tuple[int, ...] = (2,)) -> None:
    """The program ends with a status that is allowed, and an error is one line."""
    import io
    from contextlib import redirect_stderr, redirect_stdout

    from magnetite.cli.main import execute

    out, err = io.StringIO(), io.StringIO()
    with redirect_stdout(out), redirect_stderr(err):
        code = execute(list(words))
    assert code in allowed, (code, err.getvalue())
    if code == 2:
        assert [line for line in err.getvalue().splitlines() if line.startswith("magnetite: ")]


def test_hostile_gates_are_refused_in_one_line(run: Run, gated: Path) -> None:
    record = json.loads((gated / "gate.json").read_text())
    record["facts"] = {"pictures": 12}
    path = gated / "hostile.json"
    for one in mutated(record):
        path.write_text(json.dumps(one))
        clear(run, "gate", "check", str(path), str(gated / "good" / "tray0.png"), allowed=(0, 1, 2))
    for text in ("", "{", "[]", "null", '{"kind": 1e999}', "[" * 5000):
        path.write_text(text)
        clear(run, "gate", "check", str(path), str(gated / "good" / "tray0.png"))
    clear(run, "gate", "check", "/dev/zero", str(gated / "good" / "tray0.png"))


def test_a_picture_that_has_no_figure_is_named_and_stops_no_other(run: Run, gated: Path) -> None:
    run("gate", "fit", "--accepted", "good", "--rejected", "bad", "--metrics",
        "laplacian-variance,edge-width", status=0)  # fmt: skip
    flat = as_picture(np.full((48, 48), 90, np.uint8))
    magnetite.write(flat, gated / "good" / "flat.png")
    done = run("gate", "check", "gate.json", "good", "--format", "json", status=1)
    rows = {Path(r["picture"]).name: r for r in json.loads(done.stdout)["rows"]}
    assert len(rows) == 7
    assert rows["tray3.png"]["accepted"] is True
    if any(
        f["name"] == "edge-width" for f in json.loads((gated / "gate.json").read_text())["features"]
    ):
        assert rows["flat.png"]["accepted"] is None
        assert "flat.png is not judged" in done.stderr
    magnetite.write(as_picture(np.zeros((60, 60), np.uint8) + 7), gated / "size.png")
    assert (
        "the gate was fitted on 48x48 gray, 8 bits"
        in run("gate", "check", "gate.json", "size.png", status=1).stderr
    )


def test_few_pictures_without_a_figure_are_left_out_by_name(run: Run, gated: Path) -> None:
    for folder in ("good", "bad"):
        shutil.rmtree(gated / folder)
    pictures(gated / "good", 12, 0)
    pictures(gated / "bad", 12, 2)
    magnetite.write(as_picture(np.full((48, 48), 90, np.uint8)), gated / "bad" / "flat.png")
    done = run("gate", "fit", "--accepted", "good", "--rejected", "bad", "--metrics",
               "laplacian-variance,edge-width")  # fmt: skip
    assert "left out: 1 of 25 pictures (bad/flat.png) has no finite edge-width" in done.stderr
    assert "edge-width" in done.stdout
    assert "counts as a reference of its own" in done.stderr
    again = run("gate", "fit", "--accepted", "good", "--rejected", "bad", "--metrics",
                "laplacian-variance", "--group", "^([a-z]+)", status=2)  # fmt: skip
    assert "one reference" in again.stderr
    for pattern, told in (("(", "is not a regular expression"), ("^zz", "does not match the name")):
        assert told in run("gate", "fit", "--accepted", "good", "--rejected", "bad", "--group",
                           pattern, status=2).stderr  # fmt: skip


def test_labels_are_joined_by_path_and_ambiguous_ones_refused(tmp_path: Path) -> None:
    table, labels = tmp_path / "t.csv", tmp_path / "l.csv"
    names = [f"{folder}/p{k}.png" for folder in ("a", "b") for k in range(3)]
    table.write_text(
        "picture,noise-wavelet\n" + "".join(f"set/{n},{k}\n" for k, n in enumerate(names))
    )
    labels.write_text(
        "picture,verdict\n" + "".join(f"{n},{'good' if n < 'b' else 'bad'}\n" for n in names)
    )
    found = read_labelled(table, None, labels, None, None)
    assert found.labels == [True] * 3 + [False] * 3
    labels.write_text("picture,verdict\np0.png,good\n")
    with pytest.raises(InputError, match=r"fits both set/[ab]/p0.png and set/[ab]/p0.png"):
        read_labelled(table, None, labels, None, None)
    labels.write_text("picture,verdict\na/p0.png,good\na/p0.png,bad\n")
    with pytest.raises(InputError, match="has two labels"):
        read_labelled(table, None, labels, None, None)
    labels.write_text("picture,verdict\na/p0.png,good\nb/p1.png,bad\n")
    partly = read_labelled(table, None, labels, None, None)
    assert partly.labels == [True, False]
    assert partly.remarks[0] == "4 of 6 pictures left out, without a label"
    assert partly.remarks[1].startswith("each of the 2 names counts as a reference of its own")
    assert partly.remarks[1].endswith("name its column, as in --group scene")
    grouped = read_labelled(table, None, labels, None, "picture")
    assert grouped.remarks == partly.remarks[:1]


@pytest.fixture
def ran(run: Run, tmp_path: Path) -> Path:
    pictures(tmp_path / "refs", 2, 0)
    (tmp_path / "plan.toml").write_text(
        'repeats = 2\n[references]\nfiles = ["refs/*.png"]\n[degradations]\n'
        'n = "gaussian-noise sd=3%,6%"\n[treatments]\nnothing = "nothing"\n'
        'coded = "dct step=2%,4%,8%,16%"\n[keep]\npictures = "worst 1"\n'
    )
    run("run", "plan.toml", "--workers", "1")
    return tmp_path


def test_damaged_ledgers_are_refused_in_one_line(run: Run, ran: Path) -> None:
    """Cut, random, another base, text where numbers belong, facts of another kind."""
    good = (ran / "plan" / "ledger.sqlite").read_bytes()
    ledger = ran / "hurt" / "ledger.sqlite"
    rng = np.random.default_rng(1)
    contents = [b"", b"no base", good[: len(good) // 2], rng.bytes(9000)]
    for position in (100, 5000, 20000):
        contents.append(good[:position] + rng.bytes(400) + good[position + 400 :])
    allowed = (0, 2, 3)

    def tried() -> None:
        for words in (("summarize",), ("report",), ("run", "--status")):
            clear(run, *words, str(ledger.parent), allowed=allowed)

    for content in contents:
        ledger.parent.mkdir(exist_ok=True)
        ledger.write_bytes(content)
        tried()
    base = sqlite3.connect(ran / "plan" / "ledger.sqlite")
    for table, kinds in _KINDS.items():  # every column is checked but the rows' own number
        present = {row[1] for row in base.execute(f"PRAGMA table_info({table})")}
        assert present - {"number"} == set(kinds)
    ledger.unlink()
    sqlite3.connect(ledger).execute("CREATE TABLE other (x)").connection.commit()
    tried()


@pytest.mark.parametrize(
    "junk",
    ["'text'", "NULL", *(pytest.param(v, marks=pytest.mark.long) for v in ("1e999", "x'ff00'"))],
)
def test_damaged_columns_are_refused_in_one_line(run: Run, ran: Path, junk: str) -> None:
    good = (ran / "plan" / "ledger.sqlite").read_bytes()
    ledger = ran / "hurt" / "ledger.sqlite"
    ledger.parent.mkdir(exist_ok=True)
    columns = {
        "cells": ("degradation", "seed", "treatment", "status", "bytes", "bpp", "picture"),
        "scores": ("metric", "value"), "timings": ("stage", "seconds"),
        "plan": ("reference", "degradation_name", "repeat", "treatment_name"),
        "pictures": ("width", "height", "bits", "activity"), "facts": ("value",),
    }  # fmt: skip
    for table, names in columns.items():
        for name in names:
            ledger.write_bytes(good)
            base = sqlite3.connect(ledger)
            base.execute(f"UPDATE OR IGNORE {table} SET {name} = {junk}")
            base.commit()
            base.close()
            clear(run, "summarize", str(ledger.parent), "--table", "means", allowed=(0, 2, 3))
            if junk == "NULL" and name in ("value", "bytes", "picture", "reference"):
                clear(run, "report", str(ledger.parent), allowed=(0, 2, 3))


def test_an_error_of_the_program_has_a_status_of_its_own(
    run: Run, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    """Neither 0 nor 1 nor 2: a pipeline must not read it as a verdict."""
    magnetite.write(as_picture(np.zeros((9, 9), np.uint8)), tmp_path / "a.png")

    def broken(*_: object, **__: object) -> None:
        raise KeyError("scipy")

    monkeypatch.setattr("magnetite.core.operations.gauge.gauge", broken)
    done = run("gauge", "a.png", status=70)
    assert "an error of the program itself, KeyError: 'scipy'" in done.stderr
    assert "please report this line" in done.stderr
    assert done.stderr.count("\n") == 1
