"""What a run costs: rows of small pictures by one worker and by two, beyond the methods' time."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

import magnetite
from magnetite.core.chain.bind import ReadOnce
from magnetite.core.chain.notation import parse_sweep
from magnetite.core.compute.threads import use_threads
from magnetite.core.operations.degrade import degrade_chain
from magnetite.core.operations.score import Scorer
from magnetite.core.picture import as_picture
from magnetite.experiment.work import treat

NOISE = "gaussian-noise sd=1%,2%,3%,4%,5%,6%,7%,8%,9%,10%"
TREATMENTS = ("median size=3,5,7", "mean size=3,5", "gaussian sigma=0.5,1,1.5,2")
METRICS = "psnr,ssim"


def plan(repeats: int) -> str:
    """Ten references, ten noises, ten treatments."""
    listed = "\n".join(f't{k} = "{text}"' for k, text in enumerate(TREATMENTS))
    return (
        f'repeats = {repeats}\n[references]\nfiles = ["refs/*.png"]\n[degradations]\n'
        f'noisy = "{NOISE}"\n[treatments]\nnothing = "nothing"\n{listed}\n'
        f'[scores]\nmetrics = "{METRICS}"\n'
    )


def carried_out(folder: Path, repeats: int, workers: int) -> tuple[float, float]:
    """Seconds of a run, and the MiB of its leading process at most."""
    (folder / "p.toml").write_text(plan(repeats))
    words = ["run", "p.toml", "--into", f"{repeats}-{workers}", "--workers", str(workers)]
    start = time.perf_counter()
    process = subprocess.Popen(
        [sys.executable, "-m", "magnetite", *words], cwd=folder, stdout=subprocess.DEVNULL
    )
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    assert process.returncode == 0
    return time.perf_counter() - start, usage.ru_maxrss / 1024


def own_time(folder: Path) -> float:
    """Milliseconds of the methods themselves for a row, on one thread."""
    use_threads(1)
    pictures = [magnetite.read(path) for path in sorted((folder / "refs").iterdir())]
    chains = [c for text in TREATMENTS for c in parse_sweep(text, "restoration")]
    rows, files = 0, ReadOnce()
    for turn in range(2):
        rows, start = 0, time.perf_counter()
        for reference in pictures if turn else pictures[:1]:
            scorer = Scorer(reference)
            for noise in parse_sweep(NOISE, "degradation"):
                degraded = degrade_chain(reference, noise, 1)
                for chain in (None, *chains):
                    scorer.score(treat(degraded, chain, None, files)[0], METRICS)
                    rows += 1
    return 1000 * (time.perf_counter() - start) / rows


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "refs").mkdir()
        rng = np.random.default_rng(0)
        for number in range(10):
            rough = rng.random((7, 7)).repeat(7, 0).repeat(7, 1)[:48, :48]
            picture = as_picture((255 * rough).astype(np.uint8))
            magnetite.write(picture, folder / "refs" / f"r{number}.png")
        own = own_time(folder)
        few = {workers: carried_out(folder, 2, workers) for workers in (1, 2)}
        many = {workers: carried_out(folder, 20, workers) for workers in (1, 2)}
    print(f"the methods themselves: {own:.2f} ms a row")
    for workers in (1, 2):
        row = 1000 * many[workers][0] / 20_000
        print(
            f"{workers} workers, 20,000 rows: {many[workers][0]:.1f} s, {row:.2f} ms a row; "
            f"{many[workers][1]:.0f} MiB, {many[workers][1] / few[workers][1]:.2f} of that of "
            "2,000 rows"
        )
    print(f"beyond the methods, one worker: {1000 * many[1][0] / 20_000 - own:.2f} ms a row")
    print(f"two workers over one: {many[1][0] / many[2][0]:.2f}")


if __name__ == "__main__":
    main()
