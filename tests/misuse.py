"""Random misuse of every command: `python tests/misuse.py SECONDS SEED [COMMAND]`.

The outcome is added to docs/misuse.json; a new seed gives new cases.

Command lines are drawn from the declared parameters: paths of good, damaged, missing and odd files,
numbers within and far outside their bounds, steps with settings that are right, wrong or left out.
A case is a fault if it ends with a status other than 0 to 3 and 130, with a traceback, with more
than one line of error, or not within its time.
"""

from __future__ import annotations

import io
import json
import os
import random
import shutil
import signal
import sys
import tempfile
import time
import warnings
from collections import Counter
from collections.abc import Iterator
from contextlib import chdir, redirect_stderr, redirect_stdout
from datetime import date
from pathlib import Path
from typing import Any

import click
import numpy as np

import magnetite
from magnetite.cli.commands import COMMANDS
from magnetite.cli.main import execute, program
from magnetite.core.methods.catalogue import every

#: Seconds that a case may take, and options that would keep the
#: machine busy or reach out.
_LIMIT = 120
_UNUSED = {"--cluster", "--show", "--threads", "--workers"}
#: Commands that compute for long with whatever they are given.
_SKIPPED = {"demo", "prepare", "selftest"}
_TEXTS = (
    "",
    " ",
    "x",
    "-",
    "--",
    "0",
    "-1",
    "1",
    "3",
    "7",
    "1e400",
    "nan",
    "inf",
    "10" * 20,
    "1.5",
    "50%",
    "95%",
    "200%",
    "3,4",
    "1,1,40x30",
    "9,9,9999x9999",
    "640x448",
    "90x60",
    "0x0",
    "psnr",
    "all",
    "psnr,ssim window=7",
    "psnr>=30",
    "ssim>=0.9",
    "psnr=best",
    "mtf50",
    "means",
    "ranking",
    "références",
    "a\nb",
    "\x00"[:0],
    "💥",
    "'",
    '"',
    "..",
    "/",
    "~",
    "a" * 300,
    "{here}",
    "%",
    "=",
    "linear",
    "srgb",
    "json",
    "csv",
    "rggb",
    "0.5bpp",
    "20:1",
    "best",
    "degradations",
    "treatment",
)


def files_in(folder: Path, rng: random.Random) -> list[str]:
    """Good, damaged and odd files; their names and some that are not there."""
    scenes = magnetite.scenes((96, 72), 0)
    clean = scenes["veined-breccia"]
    noisy = magnetite.degrade(clean, "gaussian-noise sd=4%").picture
    magnetite.write(clean, folder / "clean.png")
    magnetite.write(noisy, folder / "noisy.png")
    magnetite.write(scenes["clay-core"], folder / "deep.png")
    magnetite.write(magnetite.convert(noisy, "gray"), folder / "gray.tif")
    np.save(folder / "planes.npy", np.random.default_rng(0).random((40, 50, 6)).astype(np.float32))
    np.save(folder / "one.npy", np.zeros((1, 1), np.uint8))
    tile = magnetite.compress(noisy, "dct step=4%")
    (folder / "tile.mgt").write_bytes(tile.data)
    (folder / "cut.mgt").write_bytes(tile.data[: len(tile.data) // 2])
    (folder / "cut.png").write_bytes((folder / "clean.png").read_bytes()[:400])
    (folder / "empty.png").write_bytes(b"")
    (folder / "noise.png").write_bytes(bytes(rng.randrange(256) for _ in range(500)))
    (folder / "text.csv").write_text("picture,accepted\nclean.png,yes\nnoisy.png,no\n")
    (folder / "bad.json").write_text('{"kind": "magnetite gate", "version": 1}')
    (folder / "deep.json").write_text("[" * 2000)
    (folder / "own.toml").write_text('[chain.mine]\nsteps = "gaussian-blur sigma={blur}"\n')
    (folder / "broken.toml").write_text("[references\n")
    (folder / "plan.toml").write_text(
        "[references]\nfiles = ['clean.png']\n[degradations]\nn = 'gaussian-noise sd=4%,8%'\n"
        "[treatments]\nm = 'median'\nd = 'dct step=4%'\nnothing = 'nothing'\n"
        "[scores]\nmetrics = 'psnr'\n"
    )
    magnetite.run(folder / "plan.toml", folder / "run", workers=1)
    for name in ("good", "bad"):
        (folder / name).mkdir()
        for k in range(3):
            shutil.copy(folder / "clean.png", folder / name / f"{k}.png")
    (folder / "nothing").mkdir()
    (folder / "link.png").symlink_to("clean.png")
    (folder / "dangling.png").symlink_to("nowhere.png")
    chart = folder / "chart.png"
    with redirect_stdout(io.StringIO()):
        assert execute(["chart", str(chart), "--size", "900x600"]) == 0
    known = [path.name for path in folder.iterdir()]
    outs = ["out.png", "out.tif", "out.mgt", "out.json", "out.csv", "out", "out.html", "out.toml"]
    return (
        known + outs + ["missing.png", "none/out.png", "/dev/null", "/dev/zero", "/proc/self/mem"]
    )


def commands() -> Iterator[tuple[list[str], click.Command]]:
    """The words of each command, and its parameters."""
    for name in COMMANDS:
        if name in _SKIPPED:
            continue
        made = program(name)
        own = made.commands[name]  # type: ignore[attr-defined]
        inner = getattr(own, "commands", None)
        if inner is None:
            yield [name], own
        else:
            for word, command in inner.items():
                yield [name, word], command


def step(rng: random.Random) -> str:
    """A step with some of its settings, right or wrong."""
    method = rng.choice(every(rng.choice(["degradation", "codec", "restoration", "metric"])))
    settings = []
    for key, one in getattr(method, "parameters", {}).items():
        draw = rng.random()
        if draw < 0.6:
            settings.append(f"{key}={one.kind.example()}")
        elif draw < 0.7:
            settings.append(f"{key}={rng.choice(_TEXTS)}")
    if rng.random() < 0.1:
        settings.append(f"unknown={rng.choice(_TEXTS)}")
    return " ".join([method.name, *settings])


def chain(rng: random.Random) -> list[str]:
    """Words of a chain."""
    steps = [step(rng) for _ in range(rng.choice([1, 1, 1, 2, 3]))]
    words = " + ".join(steps).split(" ")
    return words if rng.random() < 0.9 else [*words, rng.choice(["+", "=", "", "+ +"])]


def value(parameter: click.Parameter, rng: random.Random, files: list[str]) -> str:
    """A value of a parameter."""
    kind = type(parameter.type).__name__
    if rng.random() < 0.12:
        return rng.choice(_TEXTS)
    if hasattr(parameter.type, "choices"):
        return str(rng.choice([*map(str, parameter.type.choices), "other"]))
    if "Path" in kind or "File" in kind:
        return rng.choice(files)
    if "Int" in kind:
        return str(rng.choice([0, 1, 2, 3, 8, -1, 100, 10**30]))
    if "Float" in kind:
        return str(rng.choice([0, 0.5, 1, 2.5, -3, 90, 1e-9, 1e300, "nan", "inf"]))
    return rng.choice([*_TEXTS, *files, step(rng)])


def line(
    words: list[str], command: click.Command, rng: random.Random, files: list[str]
) -> list[str]:
    """A command line."""
    out = list(words)
    for parameter in command.params:
        if parameter.param_type_name == "argument":
            many = parameter.nargs == -1
            if "STEPS" in (parameter.metavar or "") or parameter.name == "steps":
                out += chain(rng)
            elif parameter.required or rng.random() < 0.5:
                for _ in range(rng.choice([1, 1, 2, 3]) if many else 1):
                    out.append(value(parameter, rng, files))
        elif set(parameter.opts) & _UNUSED or parameter.name == "help":
            continue
        elif parameter.required or rng.random() < 0.22:
            out.append(rng.choice(parameter.opts))
            if not getattr(parameter, "is_flag", False):
                out.append(value(parameter, rng, files))
    if rng.random() < 0.05:
        out.append(rng.choice(["--unknown", "extra", "-z"]))
    return [word for word in out if "\0" not in word]


class _TooLong(BaseException):
    pass


def _ring(*_: Any) -> None:
    raise _TooLong


def fault_of(words: list[str]) -> str:
    """What is wrong with the end of a command line; empty where nothing is."""
    said, told = io.TextIOWrapper(io.BytesIO()), io.StringIO()
    signal.signal(signal.SIGALRM, _ring)
    signal.alarm(_LIMIT)
    try:
        with redirect_stdout(said), redirect_stderr(told):
            status = execute(words)
    except _TooLong:
        return f"takes more than {_LIMIT} s"
    except BaseException as error:
        return f"raises {type(error).__name__}: {error}"
    finally:
        signal.alarm(0)
    errors = [text for text in told.getvalue().splitlines() if not text.startswith("note:")]
    if status not in (0, 1, 2, 3, 130):
        return f"ends with {status}: {errors[-1:]}"
    if "Traceback" in told.getvalue() or "Warning" in told.getvalue():
        return f"prints {told.getvalue().strip().splitlines()[-1]!r}"
    if status == 2 and len(errors) != 1:
        return f"says {len(errors)} lines: {errors[:3]}"
    return ""


def misuse(seconds: float, seed: int, only: str | None = None) -> tuple[Counter[str], list[str]]:
    """Cases by command, and faults."""
    cases: Counter[str] = Counter()
    faults: list[str] = []
    warnings.simplefilter("error")
    for words, command in commands():
        name = " ".join(words)
        if only not in (None, name):
            continue
        rng = random.Random(f"{seed} {name}")
        with tempfile.TemporaryDirectory() as home, chdir(home):
            folder = Path(home)
            files = files_in(folder, rng)
            kept = folder.with_name(folder.name + "-kept")
            shutil.copytree(folder, kept, symlinks=True)
            end = time.monotonic() + seconds
            while time.monotonic() < end:
                case = line(words, command, rng, files)
                if fault := fault_of(case):
                    faults.append(f"{case}: {fault}")
                cases[name] += 1
                if cases[name] % 20 == 0:  # outputs must not become the inputs of all that follows
                    for path in folder.iterdir():
                        shutil.rmtree(path) if path.is_dir() and not path.is_symlink() else (
                            path.unlink()
                        )
                    shutil.copytree(kept, folder, symlinks=True, dirs_exist_ok=True)
            shutil.rmtree(kept)
        print(f"{name}: {cases[name]} cases, {len(faults)} faults so far", flush=True)
    return cases, faults


def main() -> None:
    """Misuse all commands, or one, and add the outcome to the record."""
    os.environ.setdefault("NO_COLOR", "1")
    seconds, seed = float(sys.argv[1]), int(sys.argv[2])
    cases, found = misuse(seconds, seed, *sys.argv[3:4])
    print(*found, sep="\n")
    path = Path(__file__).resolve().parents[1] / "docs" / "misuse.json"
    record = json.loads(path.read_text())
    for name, count in cases.items():
        own = record["commands"].setdefault(name, {"cases": 0, "seconds": 0})
        own["cases"] += count
        own["seconds"] += seconds
    record["date"] = date.today().isoformat()
    record["faults"] += found
    path.write_text(json.dumps(record, indent=1) + "\n")
    sys.exit(bool(found))


if __name__ == "__main__":
    main()
