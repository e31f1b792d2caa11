"""Threads of this program import one at a time."""

from __future__ import annotations

import subprocess
import sys
import textwrap
from pathlib import Path

import numpy as np
import pytest

import magnetite
from conftest import PROGRAM
from magnetite.core.picture import as_picture

MODULE = """
import builtins, time
assert not getattr(builtins, "importing", 0), "another thread imports"
builtins.importing = 1
time.sleep(0.05)
builtins.importing = 0
"""


def test_only_one_thread_imports_at_a_time(tmp_path: Path) -> None:
    for number in range(4):
        (tmp_path / f"slow{number}.py").write_text(MODULE)
    script = textwrap.dedent("""
        import sys
        sys.path.insert(0, sys.argv[1])
        from magnetite.core.compute.threads import spread, use_threads

        def work(number):
            exec(f"import slow{number}")
            return number

        use_threads(4)
        assert spread(work, range(4)) == [0, 1, 2, 3]
    """)
    subprocess.run([sys.executable, "-c", script, str(tmp_path)], check=True, timeout=60)


@pytest.mark.long
def test_a_hundred_fresh_processes_under_load_all_end_well(tmp_path: Path) -> None:
    """Gauges that import SciPy in threads, while both cores are busy."""
    ramp = np.tile(np.arange(64, dtype=np.uint8), (64, 1))
    magnetite.write(as_picture(ramp), tmp_path / "a.png")
    load = [subprocess.Popen([sys.executable, "-c", "while True: pass"]) for _ in range(4)]
    words = [
        PROGRAM,
        "gauge",
        "a.png",
        "--metrics",
        "high-frequency-share,ringing,entropy,tenengrad",
    ]
    try:
        for _ in range(25):
            started = [
                subprocess.Popen(words, cwd=tmp_path, stdout=subprocess.PIPE,
                                 stderr=subprocess.PIPE, text=True)
                for _ in range(4)
            ]  # fmt: skip
            for one in started:
                _, err = one.communicate(timeout=120)
                assert one.returncode == 0, err
    finally:
        for one in load:
            one.kill()
            one.wait()
