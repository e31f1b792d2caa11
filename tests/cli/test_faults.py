"""Faults of the surroundings: no home, no temporary folder, no locale, a clock that goes back."""

from __future__ import annotations

import itertools
import os
import random
import signal
import subprocess
import time
from pathlib import Path

import pytest

from conftest import PROGRAM, Run, write_references

PLAN = """
[references]
files = ["refs/*.png"]
[degradations]
noisy = "gaussian-noise sd=5dn"
[treatments]
median = "median"
"""


def started(folder: Path, words: list[str], **environment: str) -> subprocess.CompletedProcess[str]:
    """The installed program with nothing else in its environment."""
    return subprocess.run(
        [PROGRAM, *words], cwd=folder, env=environment, capture_output=True, timeout=120,
        encoding="utf-8", errors="replace",
    )  # fmt: skip


@pytest.mark.long
@pytest.mark.parametrize(
    "environment",
    [
        {}, dict.fromkeys(("HOME", "TMPDIR", "XDG_CACHE_HOME", "XDG_CONFIG_HOME"), "/proc/nowhere"),
        {"LC_ALL": "C", "PYTHONIOENCODING": "ascii"}, {"LC_ALL": "tr_TR.UTF-8", "LANG": "tr_TR"},
    ],
    ids=["nothing", "no folders", "ascii", "another language"],
)  # fmt: skip
def test_the_main_job_needs_nothing_of_its_environment(
    environment: dict[str, str], run: Run, gray: Path, tmp_path: Path
) -> None:
    noise = ["degrade", "g.png", "größe µ.png", "gaussian-noise", "sd=3dn"]
    made = started(tmp_path, noise, **environment)
    assert made.returncode == 0, made.stderr
    scored = started(tmp_path, ["score", "g.png", "größe µ.png", "--format", "csv"], **environment)
    assert scored.returncode == 0, scored.stderr
    assert "Traceback" not in made.stderr + scored.stderr
    drawn = started(tmp_path, ["view", "profile", "g.png"], **environment)
    assert (drawn.returncode, drawn.stderr) == (0, ""), drawn.stderr
    own = run("score", "g.png", "größe µ.png", "--format", "csv")
    assert scored.stdout.split(",")[-4:] == own.stdout.split(",")[-4:]


def test_a_clock_that_goes_back_costs_no_row(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    write_references(tmp_path / "refs", 3)
    (tmp_path / "plan.toml").write_text(PLAN)
    ticks = itertools.count(2_000_000_000, -3600)
    monkeypatch.setattr(time, "time", lambda: float(next(ticks)))
    assert "3 rows: 3 computed" in run("run", "plan.toml", "--workers", "1").stdout
    assert "3 rows: 0 computed, 3 taken" in run("run", "plan.toml", "--workers", "1").stdout
    run("summarize", "plan")


def wait_for_the_program(process: subprocess.Popen[str]) -> None:
    """Until the interpreter has started and the program loads NumPy: signals are its own then."""
    maps = Path(f"/proc/{process.pid}/maps")
    for _ in range(1000):
        if process.poll() is not None or "_multiarray_umath" in maps.read_text():
            return
        time.sleep(0.01)


@pytest.mark.parametrize(
    "number", [pytest.param(k, marks=[pytest.mark.long] * (k > 0)) for k in range(12)]
)
def test_a_run_that_is_ended_at_any_moment_goes_on(number: int, tmp_path: Path) -> None:
    """SIGTERM or SIGINT after a random time; what was done stays, and the same rows come out."""
    write_references(tmp_path / "refs", 3)
    (tmp_path / "plan.toml").write_text(PLAN)
    rng = random.Random(number)
    ended = (signal.SIGTERM, signal.SIGINT)[number % 2]
    process = subprocess.Popen(
        [PROGRAM, "run", "plan.toml", "--workers", "2"], cwd=tmp_path, text=True,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    wait_for_the_program(process)
    time.sleep(rng.uniform(0, 3))
    process.send_signal(ended)
    _, said = process.communicate(timeout=60)
    assert process.returncode in (0, 130, 128 + ended, -ended), said
    assert "Traceback" not in said
    again = started(tmp_path, ["run", "plan.toml", "--workers", "1"], **os.environ)
    assert again.returncode == 0, again.stderr
    assert "3 rows:" in again.stdout
    assert not list(tmp_path.rglob(".magnetite-*"))
