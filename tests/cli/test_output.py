"""What a person sees: tables on terminals wide and narrow, in pipes, quiet and without colour."""

from __future__ import annotations

import os
import pty
import re
import subprocess
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import magnetite
from conftest import PROGRAM, Run, texture
from magnetite.cli.output import terminal_width
from magnetite.core.picture import as_picture
from magnetite.core.quantities import figures, significant


@given(st.lists(st.floats(1e-3, 1e5), min_size=1, max_size=9))
def test_figures_of_a_column_have_equal_positions_and_enough_digits(values: list[float]) -> None:
    texts = figures(values)
    assert len({len(text.partition(".")[2]) for text in texts}) == 1
    for text, value in zip(texts, values, strict=True):
        assert float(text) == pytest.approx(value, rel=0.006)


def test_what_is_no_common_figure_stays_itself() -> None:
    assert figures([1, 20, None]) == ["1", "20", "–"]
    assert figures([0.5, float("inf"), None]) == ["0.5000", "∞", "–"]
    assert figures([1e-9, 3.0]) == ["1.000e-09", "3.000"]
    # What is not 0 is not written as 0, of either sign; half of the last digit is rounded up to it.
    small = figures([0.03, 4.9e-7, 0.0, 0.5])
    assert small == ["0.030000", "<0.000001", "0.000000", "0.500000"]
    assert figures([0.03, -1e-9, 0.5])[1] == ">-0.000001"
    assert figures([0.03, 5.1e-7, 2.0])[1] == "0.000001"
    assert figures([2e12, 1.0]) == ["2.000e+12", "1.000"]


@given(st.floats(1e-4, 1e9), st.sampled_from([3, 4, 6]))
def test_numbers_of_a_message_have_significant_digits_and_no_power(
    size: float, digits: int
) -> None:
    for value in (size, -size):
        text = significant(value, digits)
        assert "e" not in text
        assert float(text) == pytest.approx(value, rel=0.5001 * 10.0 ** (1 - digits))
    assert (significant(5014.2), significant(0.25), significant(2e9)) == ("5010", "0.25", "2e+09")


@pytest.fixture
def pair(tmp_path: Path) -> tuple[str, str]:
    """A reference, and a test whose name takes two columns a sign."""
    clean = as_picture((255 * texture(40, 60)).astype(np.uint8))
    magnetite.write(clean, tmp_path / "clean.png")
    worn = magnetite.degrade(clean, "gaussian-noise sd=3%").picture
    magnetite.write(worn, tmp_path / "玄武岩.png")
    return "clean.png", "玄武岩.png"


def test_columns_stand_below_each_other_whatever_the_signs(run: Run, pair: tuple[str, str]) -> None:
    lines = run("score", pair[0], pair[1], pair[0]).stdout.splitlines()[:3]
    columns = re.compile(r".*?(mse dn² ↓|\d+\.\d\d)")
    ends = [terminal_width(columns.match(line)[0]) for line in lines]
    assert max(ends) - min(ends) <= 1, lines  # the star of the best stands behind its figure


def test_a_long_panel_is_grouped_by_family(run: Run, pair: tuple[str, str]) -> None:
    lines = run("score", *pair, "--metrics", "all").stdout.splitlines()
    for family, metric in (("error", "mse"), ("structure", "ssim"), ("residual", "residual-")):
        assert lines[lines.index(family) + 1].startswith(metric)


def test_quiet_leaves_results_and_errors(run: Run, tmp_path: Path, pair: tuple[str, str]) -> None:
    for words in (("--quiet", "view", "planes", pair[0]), ("view", "planes", pair[0], "--quiet")):
        done = run(*words)
        assert (done.stdout, done.stderr) == ("", "")
        (tmp_path / "planes.png").unlink()
    assert "psnr" in run("score", *pair, "--quiet").stdout
    assert run("score", "gone.png", pair[1], "--quiet", status=2).stderr.count("\n") == 1


@pytest.mark.parametrize("width", [40, 120])
def test_terminals_of_any_width_show_every_figure(
    tmp_path: Path, pair: tuple[str, str], width: int
) -> None:
    metrics = "mse,psnr,ssim,mae,gmsd"
    plain = subprocess.run(
        [PROGRAM, "score", *pair, "--metrics", metrics], cwd=tmp_path, capture_output=True,
        text=True, check=True,
    ).stdout  # fmt: skip
    shown = on_terminal(["score", *pair, "--metrics", metrics], tmp_path, width)
    for number in re.findall(r"\d+\.\d+", plain.splitlines()[1]):
        assert number in shown
    bare = re.sub(r"\x1b\[[0-9;]*m", "", shown)
    assert all(terminal_width(line) <= width for line in bare.splitlines())


def test_without_colour_nothing_is_coloured(tmp_path: Path) -> None:
    coloured = re.compile(r"\x1b\[(?:3|4|9)\d")
    assert coloured.search(on_terminal(["methods", "ssim"], tmp_path, 100))
    assert not coloured.search(on_terminal(["methods", "ssim"], tmp_path, 100, NO_COLOR="1"))


def on_terminal(words: list[str], folder: Path, width: int, **more: str) -> str:
    """What the program prints on a terminal of a width."""
    ours, theirs = pty.openpty()
    environment = os.environ | {"COLUMNS": str(width), "LINES": "50", "TERM": "xterm"} | more
    program = subprocess.Popen(
        [PROGRAM, *words], cwd=folder, stdin=theirs, stdout=theirs, stderr=theirs,
        env=environment, close_fds=True,
    )  # fmt: skip
    os.close(theirs)
    parts = []
    try:
        while part := os.read(ours, 65536):
            parts.append(part)
    except OSError:  # the terminal is closed with its last writer
        pass
    os.close(ours)
    assert program.wait(20) == 0
    return b"".join(parts).decode().replace("\r\n", "\n")
