"""A method's version changes when its figures do, and rows keep the versions that made them."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import replace
from pathlib import Path

import pytest

import magnetite
from conftest import Run, write_references
from figures import KEPT, figures_of, followed, steps_of
from magnetite.core.methods import catalogue
from magnetite.core.methods.declarations import Method

FIGURES = json.loads(KEPT.read_text())


@pytest.mark.parametrize("method", followed(), ids=lambda method: f"{method.kind} {method.name}")
def test_figures_of_a_version_stay(method: Method) -> None:
    kept = FIGURES.get(f"{method.kind} {method.name}")
    assert kept is not None, "a new method: python tests/figures.py"
    assert list(kept["figures"]) == steps_of(method), "other settings: python tests/figures.py"
    advice = "its figures changed: raise its version, then python tests/figures.py"
    # Another SciPy rounds a transform otherwise, and one sample in a picture becomes its neighbour.
    close = 0.02 if method.kind == "codec" else 1e-6
    found = {step: figures_of(method, step) for step in kept["figures"]}
    for step, figures in kept["figures"].items():
        if kept["version"] == method.version:
            assert found[step] == pytest.approx(figures, rel=close / 5, abs=close), advice
    if kept["version"] != method.version:
        assert found != pytest.approx(kept["figures"], rel=1e-6, abs=1e-6)


PLAN = """
[references]
files = ["refs/*.png"]
[degradations]
noisy = "gaussian-noise sd=5dn"
[treatments]
median = "median"
[scores]
metrics = "psnr,mae"
"""


def raised(monkeypatch: pytest.MonkeyPatch, kind: str, name: str) -> None:
    """Another version of a method."""
    method = catalogue.find(kind, name)
    assert method is not None
    monkeypatch.setitem(
        catalogue._methods, (kind, name), replace(method, version=method.version + 1)
    )


def test_rows_of_another_version_are_said_and_not_mixed(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    write_references(tmp_path / "refs", 3)
    (tmp_path / "plan.toml").write_text(PLAN)
    command = ["run", "plan.toml", "--workers", "1"]
    assert "3 rows: 3 computed" in run(*command).stdout
    assert "3 rows: 0 computed, 3 taken" in run(*command).stdout
    raised(monkeypatch, "metric", "mae")
    monkeypatch.setattr("magnetite.experiment.ledger.__version__", "9.9")
    again = run(*command)
    base = sqlite3.connect(tmp_path / "plan" / "ledger.sqlite")
    assert base.execute("SELECT DISTINCT version FROM cells").fetchall() == [("9.9",)]
    base.close()
    assert "computed again: 3 figures of mae, made by another version of it" in again.stderr
    assert "psnr" not in again.stderr
    assert "3 rows: 3 computed" in again.stdout
    assert "another version" not in run(*command).stderr
    raised(monkeypatch, "restoration", "median")
    assert "3 rows: 3 computed" in run(*command).stdout
    assert "another version" not in run("summarize", "plan").stderr


def test_figures_of_an_interrupted_change_of_version_are_left_out(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from magnetite.experiment.ledger import Ledger
    from magnetite.pages.content import of_run

    write_references(tmp_path / "refs", 3)
    (tmp_path / "plan.toml").write_text(PLAN)
    run("run", "plan.toml", "--workers", "1")
    ledger = Ledger(tmp_path / "plan")
    makers = ledger.facts()["makers"]
    ledger.describe(makers=makers.replace('"mae": "1"', '"mae": "2"'))
    ledger.close()
    summary = run("summarize", "plan", "--table", "means", "--format", "csv")
    assert "3 figures of mae made by another version" in summary.stderr
    assert "psnr" in summary.stdout
    assert "mae" not in summary.stdout
    words = (
        "3 figures of mae made by another version of it than that of the last run, or with other "
        "files, left out: run the plan again"
    )
    tables = magnetite.summarize(tmp_path / "plan")
    tables += magnetite.summarize(tmp_path / "plan", "guarantee", need=["psnr>=20"])
    assert {table.notes.count(words) for table in tables} == {1}
    (both,) = magnetite.summarize(tmp_path / "plan", other=tmp_path / "plan")
    assert both.notes.count(f"plan: {words}") == 2
    assert f"{words}." in of_run(tmp_path / "plan").summary


def test_certificates_name_the_version(monkeypatch: pytest.MonkeyPatch) -> None:
    raised(monkeypatch, "degradation", "gaussian-noise")
    from figures import pictures

    picture = pictures()[0]
    record = magnetite.degrade(picture, "box-blur size=3 + gaussian-noise sd=5dn").certificate
    assert [step["version"] for step in record.as_dict()["steps"]] == [1, 2]
