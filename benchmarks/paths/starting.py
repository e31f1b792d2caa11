"""Whole processes: what a command costs from the shell's prompt and back."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from measure import Setting, Work, case

import magnetite
from paths.pictures import gray, worn

PROGRAM = str(Path(sys.executable).with_name("magnetite"))
FOLDER = Path(tempfile.mkdtemp(prefix="magnetite-bench-"))


def run(*arguments: str, **environment: str) -> None:
    """Run a command; its output is not wanted."""
    import os

    subprocess.run(
        arguments, check=True, env=os.environ | environment,
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip


def importing(modules: str) -> Work:
    """A process that imports modules and does nothing."""
    return lambda: run(sys.executable, "-c", f"import {modules}")


def files(megapixels: float) -> tuple[str, str]:
    """A reference and a noisy picture on disk."""
    paths = FOLDER / f"reference-{megapixels}.png", FOLDER / f"noisy-{megapixels}.png"
    if not paths[1].exists():
        magnetite.write(gray(megapixels), paths[0])
        magnetite.write(worn(gray(megapixels), 25), paths[1])
    return str(paths[0]), str(paths[1])


def _command(name: str, goal: float, modules: str, *words: str) -> Setting:
    """A case of a command on 256x256; REF, NOISY and OUT stand for files."""

    def setting(megapixels: float) -> tuple[Work, Work]:
        reference, noisy = files(megapixels)
        paths = {"REF": reference, "NOISY": noisy, "OUT": str(FOLDER / "out.png")}
        paths["STREAM"] = str(FOLDER / "out.mgt")
        command = [PROGRAM, *(paths.get(word, word) for word in words)]
        return lambda: run(*command), importing(modules)

    yardstick = f"a process that imports {modules}"
    return case(name, yardstick=yardstick, goal=goal, size=0.0655, process=True)(setting)


_command("--help", 1.7, "typer", "--help")
_command("methods --brief", 2.5, "typer", "methods", "--brief")
_command("score, 256x256", 2.0, "numpy, PIL.Image", "score", "REF", "NOISY")
_degrade = ("degrade", "REF", "OUT", "gaussian-noise sd=5%")
_command("degrade, 256x256", 2.5, "numpy, PIL.Image", *_degrade)
_command("gauge, 256x256", 2.5, "numpy, PIL.Image", "gauge", "NOISY")
_median = ("restore", "NOISY", "OUT", "median")
_command("restore median, 256x256", 2.5, "numpy, PIL.Image", *_median)
_compress = ("compress", "REF", "STREAM", "dct", "step=24dn")
_restore = ("restore", "NOISY", "OUT", "bm3d", "sd=25dn")
_command("compress dct, 256x256", 4, "numpy, PIL.Image", *_compress)
_command("restore bm3d, 256x256", 4, "numpy, PIL.Image", *_restore)


def _plan_of_20_rows(megapixels: float) -> tuple[Work, Work]:
    """A new run of 20 rows on two workers."""
    reference, _ = files(megapixels)
    plan = FOLDER / "plan.toml"
    plan.write_text(
        f'[references]\nfiles = ["{Path(reference).name}"]\n[degradations]\n'
        'noise = "gaussian-noise sd=2%,4%,6%,8%"\n[treatments]\n'
        'median = "median"\ncoded = "median + dct step=4%,8%,16%,32%"\n',
        "utf-8",
    )

    def work() -> None:
        shutil.rmtree(FOLDER / "run", ignore_errors=True)
        run(PROGRAM, "run", str(plan), "--into", str(FOLDER / "run"), "--workers", "2")

    return work, importing("numpy, PIL.Image")


case(
    "run of 20 rows, two workers", yardstick="a process that imports numpy, PIL.Image", goal=8,
    size=0.0655, process=True, rounds=3, quick=False,
)(_plan_of_20_rows)  # fmt: skip


def _first(name: str, megapixels: float, *words: str) -> Setting:
    """A case of a command's first run ever: its compile cache is empty."""

    def setting(megapixels: float) -> tuple[Work, None]:
        reference, noisy = files(megapixels)
        paths = {"REF": reference, "NOISY": noisy, "OUT": str(FOLDER / "out.png")}
        paths["STREAM"] = str(FOLDER / "out.mgt")
        command = [PROGRAM, *(paths.get(word, word) for word in words)]

        def work() -> None:
            with tempfile.TemporaryDirectory() as empty:
                run(*command, NUMBA_CACHE_DIR=empty)

        return work, None

    title = f"{name}, first run ever"
    return case(
        title, yardstick="a second", goal=5, size=megapixels, process=True, rounds=1, quick=False
    )(setting)


_first("compress dct, 256x256", 0.0655, *_compress)
_first("restore bm3d, 256x256", 0.0655, *_restore)
_first("score, 12 MP", 12, "score", "REF", "NOISY")
