"""The self-test passes here, notices faults, and keeps a record."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from conftest import Run
from magnetite.core.codecs.entropy import stripes
from magnetite.core.metrics import colour, error
from magnetite.experiment import provenance
from magnetite.selftest import checks
from magnetite.selftest.checks import results


def test_this_installation_passes(run: Run, tmp_path: Path) -> None:
    done = run("selftest", "--out", "r.json", "--format", "csv")
    table = done.stdout.splitlines()
    assert table[0] == "check,expected,got,tolerance,unit,verdict,source"
    assert len(table) >= 30
    assert all(",passed," in line for line in table[1:])
    kept = json.loads((tmp_path / "r.json").read_text())
    assert kept["passed"] is True
    for one in kept["checks"]:
        assert abs(one["expected"] - one["got"]) <= one["tolerance"], one
        assert one["source"]
    assert {"Magnetite", "numpy", "system", "time", "code"} <= set(kept["about"])
    run("selftest", "--out", "r.txt")
    text = (tmp_path / "r.txt").read_text()
    assert kept["about"]["code"] in text
    assert f"all {len(kept['checks'])} checks passed" in text
    run("selftest", "--out", "r.pdf")
    assert (tmp_path / "r.pdf").read_bytes().startswith(b"%PDF")
    assert "written as .txt, .json, .pdf" in run("selftest", "--out", "r.doc", status=2).stderr


@pytest.mark.parametrize(("module", "name", "factor", "caught"), [
    (error, "error_sums", None, "mse of a constant difference of 3 dn"),
    (colour, "ciede2000", 1.001, "ciede2000, pair 1 of the test data"),
    (stripes, "decode", None, "predictive, decoded"),
])  # fmt: skip
def test_a_fault_is_noticed_and_named(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch,
    module: Any, name: str, factor: float | None, caught: str,
) -> None:  # fmt: skip
    own = getattr(module, name)

    def broken(*arguments: Any, **settings: Any) -> Any:
        if factor is None:
            raise ZeroDivisionError("broken on purpose")
        return factor * own(*arguments, **settings)

    checks.all_checks()
    for holder in (module, __import__("magnetite.selftest.scores", fromlist=["scores"])):
        if hasattr(holder, name):
            monkeypatch.setattr(holder, name, broken)
    done = run("selftest", "--format", "json", "--out", "r.pdf", status=1)
    found = json.loads(done.stdout)
    assert found["passed"] is False
    verdicts = {one["name"]: one["verdict"] for one in found["checks"]}
    assert verdicts[caught] != "passed"
    assert "psnr of a constant difference of 1 dn" in verdicts


def test_the_digest_follows_the_code(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    (tmp_path / "a.py").write_text("1")
    (tmp_path / "b").mkdir()
    (tmp_path / "b" / "c.py").write_text("2")
    monkeypatch.setattr(provenance, "files", lambda _: tmp_path)
    first = provenance.code_digest()
    (tmp_path / "note.txt").write_text("no code")
    assert provenance.code_digest() == first
    (tmp_path / "b" / "c.py").write_text("3")
    second = provenance.code_digest()
    (tmp_path / "b" / "c.py").rename(tmp_path / "b" / "d.py")
    assert len({first, second, provenance.code_digest()}) == 3


def test_every_check_has_a_name_of_its_own() -> None:
    names = [one.name for one in results()]
    assert len(set(names)) == len(names)
