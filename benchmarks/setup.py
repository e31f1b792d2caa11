"""Time the first minutes: a fresh clone, an empty home folder, then `make demo` and `make test`.

Prints a table; `make bench-setup`. The names of the targets after the clone are arguments.
"""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


def main() -> int:
    with tempfile.TemporaryDirectory() as folder:
        clone, home = Path(folder) / "clone", Path(folder) / "home"
        home.mkdir()
        subprocess.run(["git", "clone", "--quiet", str(ROOT), str(clone)], check=True)
        environment = {k: v for k, v in os.environ.items() if k != "NUMBA_CACHE_DIR"}
        environment |= {"HOME": str(home), "XDG_CACHE_HOME": str(home / ".cache")}
        print("| target | s | CPU s | .venv afterwards, MB |\n|---|---|---|---|")
        for target in sys.argv[1:]:
            begin, before = time.perf_counter(), _cpu()
            command = ["make", target]
            done = subprocess.run(
                command, cwd=clone, env=environment, stdout=subprocess.DEVNULL, check=False
            )
            took, cpu = time.perf_counter() - begin, _cpu() - before
            print(f"| make {target} | {took:.0f} | {cpu:.0f} | {_size(clone / '.venv'):.0f} |")
            if done.returncode:
                return done.returncode
    return 0


def _cpu() -> float:
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    return used.ru_utime + used.ru_stime


def _size(folder: Path) -> float:
    """Of all files, MB."""
    return sum(p.lstat().st_blocks for p in folder.rglob("*")) * 512 / 2**20


if __name__ == "__main__":
    sys.exit(main())
