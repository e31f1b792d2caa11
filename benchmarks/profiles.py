"""Where the time of the three main jobs goes: their parts, timed one by one."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from paths.pictures import gray, noisy
from paths.starting import FOLDER, PROGRAM, files, run

import magnetite
from magnetite.core.chain.bind import bind
from magnetite.core.chain.notation import parse_chain
from magnetite.core.compute.random import draw, normal
from magnetite.core.metrics.kernels.errors import error_sums
from magnetite.core.metrics.structure import ssim
from magnetite.core.operations.findings import StepFindings, Storage

Part = tuple[str, float, str]
#: What limits a part.
BANDWIDTH, ARITHMETIC, LIBRARY = "memory bandwidth", "arithmetic", "a library's code"
START = "the interpreter: imports, and compiled code that is loaded"


def profiles() -> dict[str, list[Part]]:
    """For each job its parts: name, seconds, and limit."""
    return {
        "score of two 12-megapixel PNG files": scoring(),
        "degrade gaussian-noise of a 12-megapixel PNG file": degrading(),
        "restore bm3d of a 512x512 PNG file": restoring(),
    }


def seconds(work: Callable[[], object]) -> float:
    """The shortest of three calls, after one that is not counted."""
    work()
    times = []
    for _ in range(3):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return min(times)


def whole(words: list[str], parts: list[Part]) -> list[Part]:
    """The parts, the rest of the whole command, and their sum."""
    total = seconds(lambda: run(PROGRAM, *words))
    rest = max(0.0, total - sum(part[1] for part in parts))
    return [("start-up and the rest", rest, START), *parts, ("all", total, "")]


def scoring() -> list[Part]:
    reference, test = files(12)
    x, y = magnetite.read(reference).samples, magnetite.read(test).samples
    parts = [
        ("decoding both files", seconds(lambda: [magnetite.read(p) for p in (reference, test)]),
         LIBRARY),
        ("error sums", seconds(lambda: error_sums(x, y)), BANDWIDTH),
        ("ssim", seconds(lambda: ssim(x, y, 255)), ARITHMETIC),
    ]  # fmt: skip
    return whole(["score", reference, test], parts)


def degrading() -> list[Part]:
    reference, _ = files(12)
    picture = gray(12)
    before = picture.pixels()
    rng = np.random.default_rng(1)
    after = before + 0.05 * draw(rng, before.shape, normal)
    (step,) = bind(parse_chain("gaussian-noise sd=5%", "degradation"), picture.frame)
    findings = StepFindings(step, Storage.of(picture, "clip"))
    worn = picture.with_pixels(after)[0]
    out = str(FOLDER / "worn.png")
    parts = [
        ("decoding the file", seconds(lambda: magnetite.read(reference)), LIBRARY),
        ("digest of the samples", seconds(picture.digest), ARITHMETIC),
        ("shares of full scale", seconds(picture.pixels), BANDWIDTH),
        ("drawing the noise", seconds(lambda: draw(rng, before.shape, normal)), ARITHMETIC),
        ("certificate", seconds(lambda: findings.add(before, after, None)), ARITHMETIC),
        ("rounding and storing", seconds(lambda: picture.with_pixels(after)), BANDWIDTH),
        ("encoding the file", seconds(lambda: magnetite.write(worn, out)), LIBRARY),
    ]
    return whole(["degrade", reference, out, "gaussian-noise", "sd=5%"], parts)


def restoring() -> list[Part]:
    from magnetite.core.restore import collaborative
    from magnetite.core.restore.kernels import blocks, groups, matching

    _, test = files(0.262)
    spent: dict[str, float] = {}
    names = {
        "match_rows": (matching, "block matching", ARITHMETIC),
        "transform": (blocks, "transforms of all blocks", ARITHMETIC),
        "threshold_groups": (groups, "thresholding of groups", "cache: blocks are scattered"),
        "wiener_groups": (groups, "Wiener filtering of groups", "cache: blocks are scattered"),
        "back": (blocks, "transforms back, and averages", ARITHMETIC),
    }
    kept = {name: getattr(module, name) for name, (module, _, _) in names.items()}

    def timing(name: str) -> Callable[..., object]:
        def call(*arguments: object) -> object:
            start = time.perf_counter()
            result = kept[name](*arguments)
            spent[name] = spent.get(name, 0.0) + time.perf_counter() - start
            return result

        return call

    plane = noisy(0.262)
    collaborative.bm3d(plane, sd=25 / 255)
    for name, (module, _, _) in names.items():
        setattr(module, name, timing(name))
    collaborative.bm3d(plane, sd=25 / 255)
    for name, (module, _, _) in names.items():
        setattr(module, name, kept[name])
    # Times of both threads are added up; half of that passes on the clock.
    parts = [(words, spent[name] / 2, limit) for name, (_, words, limit) in names.items()]
    return whole(["restore", test, str(FOLDER / "clean.png"), "bm3d", "sd=25dn"], parts)
