"""Compiled loops give the same bits in a process that compiles them and in one that loads them."""

from __future__ import annotations

import importlib
import os
import pkgutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from numba.core.dispatcher import Dispatcher

import magnetite

SCRIPT = """
import hashlib, sys
import numpy as np
import magnetite
from magnetite.core.methods.catalogue import every

y, x = np.mgrid[:110, :130]
rng = np.random.default_rng(1)
gray = 0.5 + 0.3 * np.sin(x / 9) * np.cos(y / 7) + 0.05 * rng.standard_normal(x.shape)
gray = gray.clip(0, 1).astype(np.float32)
colour = np.dstack([gray, gray[::-1], gray[:, ::-1]])
whole = np.rint(255 * gray).astype(np.uint8)

def said(name, samples):
    print(name, hashlib.sha256(np.ascontiguousarray(samples).tobytes()).hexdigest())

def restored(text):
    for kind, picture in (("gray", gray), ("colour", colour)):
        said(f"{text} {kind}", magnetite.restore(picture, text).picture.samples)

if sys.argv[1] == "means":
    for text in ("nl-means sd=5%", "bilateral range=10%"):
        restored(text)
else:
    for method in every("restoration"):
        if "kernel" not in method.example and method.name not in ("deblock", "anscombe"):
            restored(method.example.replace("8dn", "3%").replace("10dn", "4%"))
    for method in every("codec"):
        if not getattr(method, "yardstick", False):
            made = magnetite.compress(whole, method.example)
            said(method.name, np.frombuffer(made.data, np.uint8))
            said(method.name, made.picture.samples)
    worn = magnetite.degrade(colour, "gaussian-noise sd=3%").picture
    print(dict(magnetite.score(colour, worn, "all")), dict(magnetite.gauge(worn, "all")))
"""


@pytest.mark.long
@pytest.mark.parametrize("part", ["means", "all"])
def test_bits_are_the_same_cold_warm_and_with_other_threads(part: str, tmp_path: Path) -> None:
    seen = []
    for _ in range(2):
        done = subprocess.run(
            [sys.executable, "-W", "ignore", "-c", SCRIPT, part], capture_output=True, text=True,
            env={**os.environ, "NUMBA_CACHE_DIR": str(tmp_path / "cache")}, check=True, timeout=400,
        )  # fmt: skip
        seen.append(done.stdout)
    assert seen[0] == seen[1]
    assert seen[0].count("\n") >= 4
    assert list((tmp_path / "cache").rglob("*.nbc"))


def loops() -> Iterator[Dispatcher]:
    """All compiled loops of the program."""
    for module in pkgutil.walk_packages(magnetite.__path__, "magnetite."):
        if module.name.endswith("__main__"):
            continue
        for value in vars(importlib.import_module(module.name)).values():
            for one in value.values() if isinstance(value, dict) else (value,):
                if isinstance(one, Dispatcher) and one.py_func.__module__ == module.name:
                    yield one


@pytest.mark.parametrize(
    "states",
    [
        [(0, 2, 0), (0, 2, 1)],
        pytest.param([(0, 2, 0), (0, 3, 0), (5, 3, 0), (5, 3, 0)], marks=pytest.mark.long),
    ],
)
def test_a_kept_loop_is_compiled_anew_where_what_it_calls_has_changed(
    states: list[tuple[int, int, int]], tmp_path: Path
) -> None:
    """A function of another module, one that this calls, and a constant of a third one."""
    (tmp_path / "loop.py").write_text(
        "from magnetite.core.compute.jit import compiled\n"
        "from inner import STEP, twice\n\n\n"
        "@compiled()\ndef total(n):\n"
        "    s = 0\n    for i in range(n):\n        s += twice(i) + STEP\n    return s\n"
    )
    inner = (
        "from magnetite.core.compute.jit import compiled\nfrom innermost import same\n"
        "STEP = {}\n\n\n@compiled(forceinline=True)\ndef twice(i):\n    return {} * same(i)\n"
    )
    innermost = (
        "from magnetite.core.compute.jit import compiled\n\n\n"
        "@compiled()\ndef same(i):\n    return i + {}\n"
    )
    for number, (step, factor, more) in enumerate(states):
        for name, text in (
            ("inner", inner.format(step, factor)), ("innermost", innermost.format(more)),
        ):  # fmt: skip
            path = tmp_path / f"{name}.py"
            if not path.exists() or path.read_text() != text:
                path.write_text(text)
                os.utime(path, (number, number))
        done = subprocess.run(
            [sys.executable, "-B", "-c",
             "import loop; print(loop.total(4), len(loop.total.stats.cache_hits))"],
            cwd=tmp_path, env=os.environ | {"NUMBA_CACHE_DIR": str(tmp_path / "cache")},
            capture_output=True, text=True, check=True,
        )  # fmt: skip
        total, found = map(int, done.stdout.split())
        assert total == sum(factor * (i + more) + step for i in range(4))
        assert found == (number > 0 and states[number] == states[number - 1])


def test_the_cache_finds_every_loop_again() -> None:
    """A loop that refers to another function by a closure is compiled in every process."""
    found = list(loops())
    assert len(found) > 50
    for loop in found:
        cells = loop.py_func.__closure__ or ()
        assert all(isinstance(cell.cell_contents, int) for cell in cells), loop
