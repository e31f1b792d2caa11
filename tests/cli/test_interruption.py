"""Interruptions at any moment end the program soon, with one line, and lose no finished work."""

from __future__ import annotations

import contextlib
import re
import signal
import sqlite3
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import PROGRAM, Run


@pytest.mark.long
def test_an_interrupted_curve_goes_on_where_it_was(gray: Path, run: Run, tmp_path: Path) -> None:
    words = ["curve", "g.png", "--out", "c", "--codec", "png level=9", "--codec",
             "predictive bound=0..120", "--workers", "1"]  # fmt: skip
    program = subprocess.Popen([PROGRAM, *words], cwd=tmp_path, stdout=subprocess.DEVNULL)
    ledger, kept = tmp_path / "c" / "ledger.sqlite", 0
    while kept < 3:
        time.sleep(0.05)
        if ledger.is_file():
            with (
                contextlib.suppress(sqlite3.Error),
                contextlib.closing(sqlite3.connect(ledger)) as base,
            ):
                (kept,) = base.execute("SELECT count(*) FROM cells").fetchone()
    program.kill()
    program.wait()
    taken = int(re.search(r"(\d+) of \d+ points taken", run(*words).stderr)[1])
    assert taken >= kept


@pytest.mark.parametrize(
    "delay",
    [
        0.01,
        0.15,
        0.6,
        1.0,
        *(pytest.param(t, marks=pytest.mark.long) for t in (0.05, 0.3, 0.9, 1.4)),
    ],
)
def test_an_interruption_is_one_line(delay: float, gray: Path, tmp_path: Path) -> None:
    program = subprocess.Popen(
        [PROGRAM, "demo", "d"], cwd=tmp_path, stderr=subprocess.PIPE, stdout=subprocess.DEVNULL
    )
    time.sleep(delay)
    program.send_signal(signal.SIGINT)
    try:
        _, said = program.communicate(timeout=15)
    except subprocess.TimeoutExpired:
        # The interpreter can lose a signal while it starts, before the program's first line.
        assert delay < 0.1
        program.send_signal(signal.SIGINT)
        _, said = program.communicate(timeout=15)
    early = (1,) if delay < 0.1 else ()
    assert program.returncode in (130, -signal.SIGINT, *early), said
    assert b"Traceback" not in said or delay < 0.1, said  # before the program itself runs


@pytest.mark.long
def test_interruption_ends_with_130(tmp_path: Path) -> None:
    process = subprocess.Popen(
        [PROGRAM, "demo", "told"], cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE
    )
    guide: Callable[[], bool] = (tmp_path / "told" / "WALKTHROUGH.txt").exists
    for _ in range(1200):
        if guide():
            break
        time.sleep(0.05)
    process.send_signal(signal.SIGINT)
    _, stderr = process.communicate(timeout=60)
    assert (process.returncode, stderr) == (130, b"magnetite: interrupted\n")
