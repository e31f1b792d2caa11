"""Compare the outputs of the commands with those of another checkout.

`python benchmarks/same_outputs.py FOLDER [OTHER]` runs some 130 commands on the five scenes in a
new folder and keeps their outputs; given the folder of another checkout, it lists the files and
printed lines that differ. Times are left out.
"""

from __future__ import annotations

import csv
import difflib
import os
import pickle
import re
import shlex
import sqlite3
import subprocess
import sys
from pathlib import Path

import numpy as np
import tifffile

SCENES = ("banded-ironstone", "veined-breccia", "chart-plate", "speckled-granite", "clay-core")

#: `{s}` is a scene's name. Each line's output is kept under its number.
EACH = """
degrade scenes/{s}.png {s}-n.png gaussian-blur sigma=1.2px + gaussian-noise sd=12dn
degrade scenes/{s}.png {s}-p.png poisson-noise photons=4000 + quantize bits=6
degrade scenes/{s}.png {s}-a.png gaussian-noise sd=auto --aim psnr=30
degrade scenes/{s}.png {s}-j.png gaussian-noise sd=6dn + dct step=8dn
degrade scenes/{s}.png {s}-f.tif gaussian-noise sd=2dn --overflow keep
compress scenes/{s}.png {s}.mgt dct step=8dn
compress scenes/{s}.png {s}-r.mgt wavelet --rate 0.5bpp --decoded {s}-r.png
compress scenes/{s}.png {s}-q.mgt dct --aim ssim>=0.9
compress scenes/{s}.png {s}-l.mgt predictive
expand {s}.mgt {s}-e.png
restore {s}-n.png {s}-m.png median size=3 --reference scenes/{s}.png
restore {s}-n.png {s}-b.png bm3d
restore {s}-n.png {s}-t.png gaussian sigma=auto --aim psnr=best
score scenes/{s}.png {s}-n.png {s}-m.png {s}-e.png {s}.mgt
score scenes/{s}.png {s}-n.png {s}-m.png --metrics all
score scenes/{s}.png {s}-n.png {s}-m.png --metrics all --format json
score scenes/{s}.png {s}-n.png {s}-m.png --metrics psnr,ssim --format csv --border 8
score scenes/{s}.png {s}-n.png --gray --align
gauge scenes/{s}.png {s}-n.png --metrics all
gauge scenes/{s}.png {s}-n.png --metrics all --format json
gauge scenes/{s}.png {s}-n.png --metrics all --format csv
convert scenes/{s}.png {s}-g.tif gray + middle width=200 height=150 + depth bits=12
""".strip().splitlines()

ONCE = """
curve scenes/clay-core.png --codec dct --codec wavelet --metric psnr,ssim --out curves
curve scenes/veined-breccia.png --codec dct --codec wavelet --format json
curve scenes/clay-core.png --codec dct --codec wavelet --format csv
calibrate blur chart-plate-n.png
run plan.toml --into run
summarize run
summarize run --format json
summarize run --format csv
summarize run --table ranking
summarize run --table guarantee --need psnr>=24 --share 30%
report run
gauge {all} --metrics laplacian-variance,noise-wavelet --format csv > figures.csv
gate fit figures.csv --labels labels.csv --label label --out gate.json
gate check gate.json clay-core-n.png clay-core-m.png
methods
methods --format json
methods --format markdown
methods dct
--memory 360MiB degrade large.tif banded.tif gaussian-blur sigma=2px + gaussian-noise sd=3dn
--memory 360MiB restore banded.tif banded-r.tif median size=5 --reference large.tif
--memory 360MiB score large.tif banded.tif banded-r.tif --metrics mse,psnr,ssim
--memory 360MiB gauge large.tif banded.tif --metrics sd,entropy,tenengrad
--memory 360MiB convert large.tif banded-c.tif crop left=5 width=90 height=80 + depth bits=8
--memory 360MiB compress large.tif banded.mgt dct step=8dn --decoded banded-d.tif
""".strip().splitlines()

PLAN = """
repeats = 2

[references]
files = ["scenes/*.png"]
convert = "middle width=160 height=120"

[degradations]
noisy = "gaussian-noise sd=6dn,15dn"
soft = "gaussian-blur sigma=1.5px"

[treatments]
nothing = "nothing"
median = "median size=3"
collaborative = "bm3d"
coded = "dct step=16dn,32dn"

[scores]
metrics = "psnr,ssim"
gauges = "laplacian-variance"

[keep]
pictures = "worst 3"
by = "ssim"
"""

#: Lines and characters of a difference that are printed.
_LINES, _WIDTH = 12, 200

#: Facts of a ledger that differ between two runs.
_CHANGING = ("finished", "seconds", "started", "machine")
#: Figures that differ between two runs of the same program.
_TIMES = [
    (re.compile(r"\d+(\.\d+)? s\b"), "_ s"),
    (re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d)?(\.\d+)?(Z|\+\d\d:\d\d)?"), "_when_"),
    (re.compile(r'"s per megapixel": ?[\d.e-]+'), '"_": 0'),
    (re.compile(r"^((?:median|collaborative|coded: \S+ \S+) +)[\d.]+$", re.M), r"\1_"),
    (re.compile(r'"(seconds|coded|decoded|started|finished|cpu)": ?[\d.e-]+'), '"_": 0'),
]


def main() -> None:
    folder, *others = map(Path, sys.argv[1:])
    new = outputs(Path(__file__).resolve().parents[1], folder)
    kept = folder / "outputs.pickle"
    kept.write_bytes(pickle.dumps(new))
    if not others:
        return
    old = pickle.loads((others[0] / kept.name).read_bytes())
    differ = [name for name in sorted(old | new) if old.get(name) != new.get(name)]
    for name in differ:
        lines = [side.get(name, b"").decode(errors="replace").splitlines() for side in (old, new)]
        print(f"## {name}")
        for line in list(difflib.unified_diff(*lines, lineterm="", n=0))[2:_LINES]:
            print(line[:_WIDTH])
    print(f"{len(old)} outputs before, {len(new)} after, {len(differ)} differ")
    sys.exit(bool(differ))


def outputs(root: Path, folder: Path) -> dict[str, bytes]:
    """Run all commands with the program in `root`; every output by its name, without times."""
    folder.mkdir(parents=True, exist_ok=True)
    own = os.environ | {"PYTHONPATH": str(root / "src"), "COLUMNS": "200"}
    texts: dict[str, bytes] = {}

    def run(line: str) -> None:
        command, _, into = line.partition(" > ")
        words = [sys.executable, "-m", "magnetite", *shlex.split(command)]
        done = subprocess.run(words, cwd=folder, env=own, capture_output=True, check=False)
        if into:
            (folder / into).write_bytes(done.stdout)
        said = f"{done.returncode}\n".encode() + done.stdout + b"---\n" + done.stderr
        texts[f"$ {line}"] = without_times(said)

    run("scenes scenes")
    (folder / "plan.toml").write_text(PLAN)
    tifffile.imwrite(folder / "large.tif", large(), rowsperstrip=64)
    (folder / "labels.csv").write_text(labels())
    once = [line.format(all=" ".join(labelled())) for line in ONCE]
    for line in [*(line.format(s=s) for s in SCENES for line in EACH), *once]:
        run(line)
    for path in sorted(folder.rglob("*")):
        if path.is_file():
            texts[str(path.relative_to(folder))] = content(path)
    return texts


def large() -> np.ndarray:
    """A picture of 6 million samples, to be worked on in bands."""
    y, x = np.mgrid[:2400, :2500]
    shading = 120 + 60 * np.sin(x / 40) * np.cos(y / 90)
    return (shading + np.random.default_rng(0).normal(0, 6, y.shape)).astype(np.uint8)


def labels() -> str:
    """A table of pictures that are accepted or not, for a gate."""
    lines = [
        f"{name},{'rejected' if name.endswith('-n.png') else 'accepted'}" for name in labelled()
    ]
    return "\n".join(["picture,label", *lines]) + "\n"


def labelled() -> list[str]:
    """Pictures that are accepted, and the noisy ones, which are not."""
    return [name for s in SCENES for name in (f"scenes/{s}.png", f"{s}-m.png", f"{s}-n.png")]


def content(path: Path) -> bytes:
    """A file's content for comparison: of a ledger its rows, without times."""
    if path.suffix == ".sqlite":
        with sqlite3.connect(path) as ledger:
            return without_times("\n".join(rows_of(ledger)).encode())
    if path.suffix == ".csv":
        return without_seconds(path)
    if path.suffix in (".json", ".html", ".txt", ".toml", ".md"):
        return without_times(path.read_bytes())
    return b"" if path.suffix in (".parquet", ".sqlite-wal", ".sqlite-shm") else path.read_bytes()


def without_seconds(path: Path) -> bytes:
    """A table without its columns of seconds."""
    lines = list(csv.reader(path.read_text().splitlines()))
    kept = [k for k, title in enumerate(lines[0]) if "seconds" not in title]
    return "\n".join(str([line[k] for k in kept]) for line in lines).encode()


def rows_of(ledger: sqlite3.Connection) -> list[str]:
    """Rows of all tables, sorted; columns of times left out."""
    rows = []
    for (table,) in ledger.execute("select name from sqlite_master where type = 'table'"):
        found = ledger.execute(f"select * from {table}")
        names = [column[0] for column in found.description]
        kept = [k for k, name in enumerate(names) if not re.search("second|time|when|at$", name)]
        rows += [f"{table} {[row[k] for k in kept]}" for row in found if row[0] not in _CHANGING]
    return sorted(rows)


def without_times(text: bytes) -> bytes:
    plain = text.decode(errors="replace")
    for pattern, instead in _TIMES:
        plain = pattern.sub(instead, plain)
    return plain.encode()


if __name__ == "__main__":
    main()
