"""Structure-aware fuzzing of every reader: mutated files are read, or refused in one line.

`python tests/fuzzing.py CASES` prints a table of readers, cases and faults.
"""

from __future__ import annotations

import json
import random
import struct
import sys
import tempfile
import time
import warnings
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import tifffile

import magnetite
from magnetite.core.chain.notation import parse_chain, parse_sweep
from magnetite.core.chart.record import as_record, of_record
from magnetite.core.errors import MagnetiteError
from magnetite.core.gate.gate import Gate
from magnetite.core.operations.aim import Target
from magnetite.core.picture import as_picture
from magnetite.experiment.labels import read_labelled
from magnetite.experiment.plan_reading import read_plan
from magnetite.files.reading import read, read_kernel
from magnetite.files.row_access import open_rows
from magnetite.files.sidecar import read_json

#: Samples that a mutated header may declare, and seconds that one case may take.
MOST, SECONDS = 100_000, 5.0
#: Numbers that headers do not expect.
_ODD = (0, 1, 2, 127, 128, 255, 256, 32767, 32768, 65535, 2**31 - 1, 2**31, 2**32 - 1)
_WORDS = (
    "=", "+", ":", ",", "..", "%", "dn", "px", "auto", "known", "inf", "nan", "-1", "1e999", "[",
    "]", "{", "}", '"', "\\", "\0", "\n", "null", "true", "é", "0x1", "9" * 40, " ", "\u202e",
)  # fmt: skip


def mutated(data: bytes, rng: random.Random, other: bytes) -> bytes:
    """A few changes of bytes, numbers, lengths and order."""
    made = bytearray(data)
    for _ in range(rng.choice((1, 1, 2, 4))):
        if not made:
            return bytes(made)
        at, kind = rng.randrange(len(made)), rng.randrange(8)
        if rng.random() < 0.5:
            at = min(at, rng.randrange(200))  # headers come first
        if kind == 0:
            made[at] ^= 1 << rng.randrange(8)
        elif kind == 1:
            made[at] = rng.choice(_ODD) & 255
        elif kind == 2:
            form = rng.choice(("<H", ">H", "<I", ">I"))
            packed = struct.pack(form, rng.choice(_ODD) & (65535 if "H" in form else 2**32 - 1))
            made[at : at + len(packed)] = packed
        elif kind == 3:
            del made[at : at + rng.choice((1, 4, 50, 10**6))]
        elif kind == 4:
            start = rng.randrange(len(made))
            made[at:at] = made[start : start + rng.choice((1, 8, 60))]
        elif kind == 5:
            start = rng.randrange(max(1, len(other)))
            made[at:at] = other[start : start + rng.choice((4, 40))]
        else:
            made[at:at] = rng.choice(_WORDS).encode()
    return bytes(made)


@dataclass
class Reader:
    """Files of one kind, and the function that reads them."""

    name: str
    read: Callable[[Path], object]
    seeds: list[bytes]
    ending: str = ""
    faults: Counter[str] = field(default_factory=Counter)


def _bands(path: Path) -> None:
    rows = open_rows(path)
    if rows is not None and rows.frame.height * rows.frame.width * rows.frame.channels <= MOST:
        rows.part(slice(0, 5))
        rows.part(slice(max(0, rows.frame.height - 3), rows.frame.height))


def readers(folder: Path) -> Iterator[Reader]:
    """Every reader with valid files of its kind."""
    rng = np.random.default_rng(0)
    gray = as_picture(rng.integers(0, 256, (20, 24)).astype(np.uint8))
    rgb = as_picture(rng.integers(0, 256, (12, 16, 3)).astype(np.uint8))
    deep = as_picture(rng.integers(0, 65536, (12, 16)).astype(np.uint16))
    pictures: dict[str, list[bytes]] = {}
    for picture in (gray, rgb, deep):
        for ending in (".png", ".tif", ".jpg", ".bmp", ".pgm", ".ppm", ".webp", ".jp2", ".npy"):
            path = folder / f"seed{ending}"
            try:
                magnetite.write(picture, path)
            except MagnetiteError:
                continue
            pictures.setdefault(ending, []).append(path.read_bytes())
    path = folder / "plain.tif"
    for options in ({"rowsperstrip": 3}, {"tile": (16, 16)}, {"compression": "zlib"}):
        tifffile.imwrite(path, gray.samples, **options)  # type: ignore[arg-type]
        pictures[".tif"].append(path.read_bytes())
    pictures[".pgm"].append(b"P2\n# note\n3 2\n255\n1 2 3\n4 5 255\n")
    for ending, seeds in pictures.items():
        yield Reader(f"read {ending}", lambda p: read(p, max_samples=MOST), seeds, ending)
    for ending in (".tif", ".npy"):
        yield Reader(f"bands {ending}", _bands, pictures[ending], ending)
    yield Reader("kernel", read_kernel, [*pictures[".npy"][:1], *pictures[".pgm"][:1]], ".npy")
    streams = [
        magnetite.compress(picture, step).data
        for picture in (gray, rgb)
        for step in ("dct step=9dn", "wavelet step=9dn", "predictive", "svd rank=2", "pcm bits=3",
                     "bit-planes keep=3", "fourier keep=5%", "pca components=3")
    ]  # fmt: skip
    yield Reader("read .mgt", lambda p: read(p, max_samples=MOST), streams, ".mgt")
    plan = (
        f'title = "t"\n[references]\nfiles = ["{folder}/seed.png"]\n[degradations]\n'
        'n = "gaussian-noise sd=1%,2% + quantize bits=4"\n[treatments]\nm = "median size=3"\n'
        'c = "dct step=4%"\n[pairs]\nexclude = [["n", "m"]]\n[scores]\nmetrics = "psnr,ssim"\n'
        '[keep]\npictures = "worst 2"\nby = "psnr"\n'
    )
    yield Reader("plan", read_plan, [plan.encode()], ".toml")
    table = "picture,psnr,ssim,verdict\n" + "".join(
        f"p{k}.png,{k % 7},{k / 9},{'accepted' if k % 2 else 'rejected'}\n" for k in range(14)
    )
    yield Reader("labels", lambda p: read_labelled(p, "verdict", None, None, None),
                 [table.encode()], ".csv")  # fmt: skip
    gate = (
        b'{"kind": "magnetite gate", "version": 1, "program": "0", "features": [{"name": "psnr", '
        b'"kind": "metric", "mean": 30.0, "sd": 2.0, "weight": 1.0, "low": 20, "high": 40}], '
        b'"intercept": 0.5, "threshold": 0.5, "regression": false, "facts": {}}'
    )
    yield Reader(
        "gate", lambda p: Gate.of_record(read_json(p)).judge({"psnr": 3.0}), [gate], ".json"
    )
    record = as_record(magnetite.chart(900, 600)[1])
    for key in ("dots", "squares", "steps", "colours"):
        record[key] = record[key][:5]
    record["leaves"]["disks"] = record["leaves"]["disks"][:4]
    chart = json.dumps(record).encode()
    yield Reader("chart", lambda p: of_record(read_json(p)), [chart], ".json")
    chains = [b"gaussian-noise sd=5dn + quantize bits=4 dither=triangular", b"dct step=1%..8%:4",
              b"bm3d sd=auto + median size=3,5", b"psf-blur kernel=k.npy"]  # fmt: skip
    kinds = ("degradation", "codec", "restoration")
    yield Reader("chains", lambda p: parse_sweep(_text(p), *kinds), chains)
    yield Reader(
        "one chain", lambda p: parse_chain(_text(p), "restoration", auto=True), chains[2:3]
    )
    yield Reader("aims", lambda p: Target.parse(_text(p)), [b"psnr>=30", b"laplacian-variance=50%"])


def _text(path: Path) -> str:
    return path.read_bytes().decode("utf-8", "replace")


def fuzz(cases: int, seed: int = 0) -> list[tuple[str, int, Counter[str]]]:
    """Name, cases and faults of each reader; the cases are shared evenly."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        every = list(readers(folder))
        for number, one in enumerate(every):
            rng = random.Random(f"{seed} {number}")
            path = folder / f"case{one.ending}"
            for _ in range(max(1, cases // len(every))):
                data = mutated(rng.choice(one.seeds), rng, rng.choice(one.seeds))
                path.write_bytes(data)
                start = time.perf_counter()
                try:
                    with warnings.catch_warnings():
                        warnings.simplefilter("error")
                        one.read(path)
                except MagnetiteError as error:
                    if "\n" in str(error):
                        one.faults["a message of several lines"] += 1
                except Exception as error:  # anything else is a fault of the reader
                    frame = error.__traceback__
                    while frame is not None and frame.tb_next is not None:
                        frame = frame.tb_next
                    where = frame.tb_frame.f_code.co_filename.split("site-packages/")[-1]
                    line = frame.tb_lineno
                    one.faults[f"{type(error).__name__} {str(error)[:60]!r} {where}:{line}"] += 1
                if time.perf_counter() - start > SECONDS:
                    one.faults["too slow"] += 1
        return [(one.name, max(1, cases // len(every)), one.faults) for one in every]


if __name__ == "__main__":
    for name, count, faults in fuzz(int(sys.argv[1]), int((sys.argv[2:] or ["0"])[0])):
        print(f"{name:12} {count:8} {sum(faults.values()):6}")
        for words, number in faults.most_common(6):
            print(f"{'':22}{number:6}  {words}")
