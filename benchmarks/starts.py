"""Parts of the start of commands, from the interpreter's own account of imports.

`make bench-starts` prints a Markdown table: seconds of modules by package, and of the rest, which
is the interpreter, machine code that is loaded, and the work. Bytecode and loops are cached; times
are the least of five.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import time
from pathlib import Path

PROGRAM = Path(sys.executable).with_name("magnetite")
PARTS = ("numpy", "numba", "llvmlite", "scipy", "typer", "rich", "PIL", "magnetite")
COMMANDS = {
    "score": "score r.png n.png", "degrade": "degrade r.png o.png gaussian-noise sd=5%",
    "gauge": "gauge n.png", "restore median": "restore n.png o.png median",
    "compress dct": "compress r.png o.mgt dct step=24dn",
    "restore bm3d": "restore n.png o.png bm3d sd=25dn",
}  # fmt: skip
_LINE = re.compile(r"import time:\s+(\d+) \|\s+\d+ \|\s*([\w.]+)")
_ROUNDS = 5


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        run("scenes s --size 256x256", folder)
        Path(folder, "s", "veined-breccia.png").rename(Path(folder, "r.png"))
        run("degrade r.png n.png gaussian-noise sd=25dn", folder)
        print("| start | " + " | ".join(PARTS) + " | rest | all, s |")
        print("|---" * (len(PARTS) + 3) + "|")
        for name, words in COMMANDS.items():
            run(words, folder)
            whole = min(timed(words, folder) for _ in range(_ROUNDS))
            own = parts(run(words, folder, "-X", "importtime"))
            rest = max(0.0, whole - sum(own.values()))
            cells = [f"{own[part]:.2f}" for part in PARTS] + [f"{rest:.2f}", f"{whole:.2f}"]
            print(f"| {name} | " + " | ".join(cells) + " |")


def run(words: str, folder: str, *flags: str) -> str:
    """A command's messages."""
    command = [sys.executable, *flags, str(PROGRAM), *words.split()]
    environment = os.environ | {"PYTHONUNBUFFERED": "1"}
    done = subprocess.run(
        command, cwd=folder, env=environment, capture_output=True, text=True, check=True
    )
    return done.stderr


def timed(words: str, folder: str) -> float:
    start = time.perf_counter()
    run(words, folder)
    return time.perf_counter() - start


def parts(account: str) -> dict[str, float]:
    """Seconds of each package's modules, without those that they import."""
    found = dict.fromkeys(PARTS, 0.0)
    for took, module in _LINE.findall(account):
        package = module.split(".")[0]
        if package in found:
            found[package] += int(took) / 1e6
    return found


if __name__ == "__main__":
    main()
