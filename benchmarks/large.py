"""A gigapixel: its time for each pixel against that of 12 megapixels, and peak memory.

make bench-large; it makes a pair of 1-gigapixel TIFF files in a temporary folder, 2 GB, and takes
about ten minutes. `--megapixels N` takes another size.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import tifffile

PROGRAM = str(Path(sys.executable).with_name("magnetite"))
#: Rows of a strip of the files.
STRIP = 256


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--megapixels", type=float, default=1000)
    megapixels = parser.parse_args().megapixels
    with tempfile.TemporaryDirectory(prefix="magnetite-large-") as name:
        folder = Path(name)
        pair(folder / "small", 4000, 3000)
        pair(folder / "large", 32_768, round(megapixels * 1e6 / 32_768))
        print(f"{'':34} {'s':>8} {'ns/px':>8} {'peak GiB':>9}")
        start = told("start-up alone", ["methods", "--brief"], 0)
        small = told("score, 12 MP", score(folder / "small"), 12)
        large = told(f"score, {megapixels:g} MP", score(folder / "large"), megapixels)
        chain = ["gaussian-blur", "sigma=2", "+", "gaussian-noise", "sd=5%"]
        clean, worn = f"{folder}/large-a.tif", f"{folder}/worn.tif"
        for title, words in {
            "degrade": ["degrade", clean, worn, *chain],
            "restore median": ["restore", worn, f"{folder}/back.tif", "median", "size=3"],
            "convert depth": ["convert", worn, f"{folder}/deep.tif", "depth", "bits=16"],
            "gauge, all that bands take": ["gauge", worn, "--metrics", "all"],
            "compress dct": ["compress", clean, f"{folder}/coded.mgt", "dct", "step=24dn"],
            "score a region": ["score", clean, worn, "--region", "900,900,2000x1500"],
        }.items():
            told(f"{title}, {megapixels:g} MP", words, megapixels)
        ratio = large / small
        print(f"\ntime of a pixel, whole commands: {ratio:.2f} times that of 12 MP (at most 1.3)")
        apart = (large * megapixels - 1e3 * start) / megapixels
        print(f"without start-up: {apart:.1f} ns a pixel of {megapixels:g} MP")


def score(base: Path) -> list[str]:
    return ["score", f"{base}-a.tif", f"{base}-b.tif"]


def told(title: str, words: list[str], megapixels: float) -> float:
    """Run a command and print its time and memory; ns a pixel, or seconds of no picture."""
    start = time.perf_counter()
    child = subprocess.Popen([PROGRAM, *words], stdout=subprocess.DEVNULL)
    _, status, used = os.wait4(child.pid, 0)
    spent = time.perf_counter() - start
    if status:
        raise SystemExit(f"{' '.join(words)}: failed")
    peak = used.ru_maxrss / 2**20
    each = 1e3 * spent / megapixels if megapixels else spent
    shown = f"{each:8.1f}" if megapixels else " " * 8
    print(f"{title:34} {spent:8.2f} {shown} {peak:9.3f}", flush=True)
    return each


def pair(base: Path, width: int, height: int) -> None:
    """A reference and the same with noise, 8 bits gray, in strips."""
    for name, sd in (("a", 0), ("b", 8)):
        path = base.with_name(f"{base.name}-{name}.tif")
        with tifffile.TiffWriter(path, bigtiff=True) as tiff:
            tiff.write(
                strips(width, height, sd), shape=(height, width), dtype=np.uint8,
                rowsperstrip=STRIP, photometric="minisblack", metadata=None,
            )  # fmt: skip


def strips(width: int, height: int, sd: float) -> Iterator[np.ndarray]:
    grain, noise = np.random.default_rng(1), np.random.default_rng(2)
    x = np.arange(width, dtype=np.float32)
    for top in range(0, height, STRIP):
        y = np.arange(top, min(height, top + STRIP), dtype=np.float32)[:, np.newaxis]
        samples = 115 + 70 * np.sin(x / 300) * np.cos(y / 170)
        samples = samples + 3 * grain.standard_normal(samples.shape, dtype=np.float32)
        if sd:
            samples += np.float32(sd) * noise.standard_normal(samples.shape, dtype=np.float32)
        yield np.rint(samples).clip(0, 255).astype(np.uint8)


if __name__ == "__main__":
    main()
