"""Results follow the code of one's own, programs, libraries and workers by their content."""

from __future__ import annotations

import os
import pickle
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from conftest import Run, as_in_a_new_process
from magnetite import external
from magnetite.core.chain.named import NamedChain, declare_chain, forget_chain
from magnetite.core.methods.catalogue import forget
from magnetite.experiment import cluster
from magnetite.experiment.cluster import code_of, perform_with
from magnetite.experiment.executors import Alone
from magnetite.experiment.rates import family_of
from magnetite.experiment.results import better_of
from magnetite.experiment.runner import Outcome
from small_runs import PLAN, carried_out, picture_at, table

OWN = """
import numpy as np
from magnetite.core.methods.catalogue import ColourPolicy, metric

SCALE = np.array([1.0, 2.0])
OTHER = 5

def gap(difference, power=1):
    return (abs(difference) ** power).mean()

@metric("own-gap", summary="A gap.", colour=ColourPolicy.LUMA, source="own", unit="dn",
        values="0 and more", better="lower", identical=0)
def own_gap(reference, test, peak=1.0):
    "Says nothing."
    return float(SCALE[1] * max(gap(part) for part in [reference - test]))
"""


def test_code_of_ones_own_is_part_of_the_key(tmp_path: Path) -> None:
    """A changed metric of a script gives new figures; what it does not use changes nothing."""
    picture_at(tmp_path / "refs" / "a.png", 1)
    text = f'{PLAN}[scores]\nmetrics = "own-gap"\n'
    values: list[float] = []
    for old, new, computed in (
        ("", "", 2),
        ("Says nothing", "Says more", 0),
        ("OTHER = 5", "OTHER = 6", 0),
        ("2.0]", "4.0]", 2),
        ("mean()", "max()", 2),
        ("power=1", "power=2", 2),
        ("SCALE[1] *", "SCALE[1] +", 2),
    ):
        names = {"__name__": "mine.figures"}
        exec(OWN.replace(old, new), names)
        try:
            assert carried_out(tmp_path, text).computed == computed, new
            names["SCALE"] = names["SCALE"] * 1.5  # as another cell of a notebook would
            assert carried_out(tmp_path, text).computed == 2
            names["SCALE"] = names["SCALE"] / 1.5
            assert carried_out(tmp_path, text).computed == 2
        finally:
            forget("metric", "own-gap")
        values.append(table(tmp_path / "run")["own-gap"][0])
    assert values[0] == values[1] == values[2] == values[3] / 2
    assert len(set(values)) == 5


def test_workers_of_a_cluster_have_the_code_of_the_leading_program(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Rows of a worker with another program, metric or file fail; they are not taken for ours."""
    picture_at(tmp_path / "refs" / "a.png", 1)
    np.save(tmp_path / "psf.npy", np.ones((3, 3)))
    text = PLAN.replace('"gaussian-noise sd=4%"', '"psf-blur kernel=psf.npy"')
    text += '[scores]\nmetrics = "own-gap"\n'

    def worker(change: Callable[[], object], number: int) -> Outcome:
        """A run whose worker has changed since the tasks were submitted."""

        class Live(Alone):
            def run(self, tasks):  # type: ignore[no-untyped-def]
                for task in tasks:
                    sent, code = pickle.dumps(task), code_of(task)
                    change()
                    yield task, perform_with(pickle.loads(sent), (), code)

        exec(OWN, {"__name__": "mine.figures"})
        try:
            return carried_out(tmp_path, text, f"run{number}", Live())
        finally:
            forget("metric", "own-gap")

    def other_metric() -> None:
        forget("metric", "own-gap")
        exec(OWN.replace("mean()", "max()"), {"__name__": "mine.figures"})

    changes = (
        lambda: None,
        other_metric,
        lambda: np.save(tmp_path / "psf.npy", np.eye(3)),
        lambda: monkeypatch.setattr(cluster, "_program", lambda: "another"),
    )
    for number, change in enumerate(changes):
        done = worker(change, number)
        assert (done.computed, done.failed) == (2, 2 if number else 0)
    reasons = pd.read_csv(tmp_path / "run3" / "scores.csv")["reason"]
    assert reasons.str.contains("other code, methods or files than the program that leads").all()


def test_rows_of_a_library_are_of_the_version_that_made_them(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Tables state the library of the run, not the one that is installed where they are made."""
    picture_at(tmp_path / "refs" / "a.png", 1)
    text = PLAN.replace('median = "median"', 'coded = "jpeg quality=50"\nown = "dct step=8%"')
    text = text.replace('"gaussian-noise sd=4%"', '"webp quality=20"')
    for version, computed in (("3.0.1", 3), ("3.0.1", 0), ("3.1.0", 1)):
        installed = f"libjpeg_turbo-{version}, libwebp-1.5"
        monkeypatch.setattr("imagecodecs.version", lambda installed=installed: installed)
        assert carried_out(tmp_path, text).computed == computed
    monkeypatch.setattr("imagecodecs.version", lambda: "libjpeg_turbo-9, libwebp-9")
    said = run("summarize", "run", "--table", "means").stdout
    for words in ("webp by libwebp 1.5, effort 6", "jpeg by libjpeg_turbo 3.1.0"):
        assert said.count(words) == 1
    assert "-9" not in said


def test_the_program_of_a_command_is_part_of_the_key(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By whatever name: beside its table, by its path, or on the search path for programs."""
    picture_at(tmp_path / "refs" / "a.png", 1)
    programs = tmp_path / "bin"
    programs.mkdir()
    monkeypatch.setenv("PATH", f"{programs}{os.pathsep}{os.environ['PATH']}")
    text = PLAN.replace('median = "median"', 'own = "own"')
    ways = ("copy", f"{programs}/copy", f"sh {programs}/copy", "{here}/bin/copy")
    for number, way in enumerate(ways):
        command = f"{way} {{input}} {{output}}"
        (tmp_path / "own.toml").write_text(f'[restoration.own]\nrun = "{command}"\n')
        for remark, computed in (("one", 2), ("two", 1), ("two", 0)):
            (programs / "copy").write_text(f'#!/bin/sh\n# {remark}\ncp "$1" "$2"\n')
            (programs / "copy").chmod(0o755)
            with as_in_a_new_process():
                external.declare(tmp_path / "own.toml")
                assert carried_out(tmp_path, text, f"run{number}").computed == computed


def test_names_mean_what_is_declared_now(tmp_path: Path) -> None:
    """Before a declaration, after it, and after another of the same name."""
    assert better_of("own-gap") is None
    for better in ("lower", "higher"):
        exec(OWN.replace("lower", better), {"__name__": "mine.figures"})
        assert better_of("own-gap") == better
        forget("metric", "own-gap")
    assert family_of("own quality=3") == ""
    command = "cp {input} {output} {quality}"
    (tmp_path / "own.toml").write_text(
        f'[codec.own]\nencode = "{command}"\ndecode = "{command}"\nquality = [1, 9]\n'
    )
    with as_in_a_new_process():
        external.declare(tmp_path / "own.toml")
        assert family_of("own quality=3") == "own"
    assert family_of("own quality=3") == ""
    assert family_of("own-chain") == ""
    declare_chain(NamedChain("own-chain", "Two steps.", "median size=3 + mean size=3"))
    try:
        assert family_of("own-chain") == "own-chain"
    finally:
        forget_chain("own-chain")
    assert family_of("own-chain") == ""
