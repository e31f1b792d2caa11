"""Nothing that a single operating system has is needed for the main job."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

import magnetite
from conftest import PROGRAM, Run
from magnetite.synthetic.catalogue import SCENES

#: Modules and names that Windows lacks, made unavailable before the program starts.
SCRIPT = """
import os, signal, sys

import multiprocessing.util  # of Python itself, which knows the systems

for name in ("fcntl", "resource", "pwd", "grp", "termios", "posix_ipc", "syslog"):
    sys.modules[name] = None
for position, names in (
    (os, ("sched_getaffinity", "killpg", "register_at_fork", "getuid", "geteuid", "fork",
          "getpgid", "setsid", "symlink")),
    (signal, ("SIGHUP", "SIGKILL", "SIGUSR1")),
):
    for name in names:
        if hasattr(position, name):
            delattr(position, name)

from magnetite.cli.main import execute

PLAN = '''
[references]
files = ["clean.png"]
[degradations]
noise = "gaussian-noise sd=3%"
[treatments]
coded = "median + dct step=4%,8%"
'''
open("plan.toml", "w", encoding="utf-8").write(PLAN)
for words in (
    "degrade clean.png noisy.png gaussian-noise sd=5dn", "compress noisy.png noisy.mgt dct step=4%",
    "expand noisy.mgt decoded.png", "restore noisy.png better.png median size=3",
    "score clean.png noisy.png better.png --format csv", "gauge noisy.png",
    "run plan.toml --workers 1", "summarize plan", "report plan",
):
    status = execute(words.split())
    assert status == 0, (words, status)
"""


@pytest.mark.long
def test_the_main_job_needs_no_module_of_one_system(tmp_path: Path) -> None:
    magnetite.write(SCENES[1].picture(96, 80, 1), tmp_path / "clean.png")
    done = subprocess.run(
        [sys.executable, "-c", SCRIPT], cwd=tmp_path, capture_output=True, text=True, timeout=200
    )
    assert done.returncode == 0, done.stderr
    names = [path.name for path in tmp_path.rglob("*")]
    assert {"ledger.sqlite", "report.html", "better.png", "decoded.png"} <= set(names)
    # None that Windows refuses: a colon, a dot or a space at the end, a device.
    assert not [n for n in names if set(n) & set('<>:"|?*') or n[-1] in ". " or n == "nul"]


def test_options_of_the_program_stand_anywhere(run: Run, tmp_path: Path) -> None:
    picture = SCENES[0].picture(64, 48, 1)  # in colour
    magnetite.write(picture, tmp_path / "p.png")
    before = run("--convert", "gray", "--threads", "1", "gauge", "p.png", "--metrics", "mean,sd")
    after = run("gauge", "p.png", "--metrics", "mean,sd", "--threads=1", "--convert=gray")
    assert before.stdout == after.stdout
    plain = run("gauge", "p.png", "--metrics", "mean,sd")
    assert plain.stdout != after.stdout
    misplaced = run("--format", "json", "gauge", "p.png", status=2)
    assert "options of a command stand after its name" in misplaced.stderr
    assert "requires an argument" in run("gauge", "p.png", "--threads", status=2).stderr
    versions = run("--version").stdout.splitlines()
    assert versions[0] == f"magnetite {magnetite.__version__}"
    assert any(line.startswith("numba ") for line in versions)
    assert len(run().stdout.splitlines()) == 5


@pytest.mark.parametrize(
    ("line", "wanted"),
    [("sc", {"scenes", "score"}), ("score --ma", {"--mask", "--maps"}),
     ("gate ", {"fit", "check"}), ("--th", {"--threads"})],
)  # fmt: skip
def test_shells_complete_commands_and_options(line: str, wanted: set[str], run: Run) -> None:
    words = f"magnetite {line}"
    for shell in ("bash", "zsh", "fish"):
        assert "_MAGNETITE_COMPLETE" in run("completion", shell).stdout
    last = len(words.split(" ")) - 1
    asked = {
        "bash": {"COMP_WORDS": words, "COMP_CWORD": str(last)},
        "zsh": {"_TYPER_COMPLETE_ARGS": words},
        "fish": {"_TYPER_COMPLETE_ARGS": words, "_TYPER_COMPLETE_FISH_ACTION": "get-args"},
    }
    for shell, own in asked.items():
        if shell != "bash" and line != "--th":  # they differ in their variables alone
            continue
        done = subprocess.run(
            [PROGRAM], capture_output=True, text=True,
            env=os.environ | own | {"_MAGNETITE_COMPLETE": f"complete_{shell}"},
        )  # fmt: skip
        found = {word for word in wanted if word in done.stdout}
        assert found == wanted, (shell, done.stdout, done.stderr)
        assert "restore" not in done.stdout
