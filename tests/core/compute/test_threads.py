"""No result depends on how many threads worked on it."""

from __future__ import annotations

import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

import magnetite
from conftest import Run
from magnetite.core.compute.compiling import WORTH_COMPILING, band_of, worth_compiling
from magnetite.core.compute.threads import cores, each, spread, stream, threads, use_threads
from magnetite.core.picture import Picture
from magnetite.synthetic.catalogue import SCENES


@pytest.fixture(scope="module")
def scene() -> Picture:
    """Large enough to be worked on in parts."""
    return SCENES[0].picture(900, 700, 0).luma()


def each_way(work: Callable[[], object]) -> list[object]:
    """What comes of some work on one, two and five threads."""
    results = []
    try:
        for count in (1, 2, 5):
            use_threads(count)
            results.append(work())
    finally:
        use_threads(2)
    return results


@pytest.mark.parametrize(
    "step",
    ["gaussian-noise sd=5%", "coloured-noise sd=5%", "poisson-noise photons=500",
     "gaussian-blur sigma=1.2", "gaussian-blur sigma=12", "motion-blur length=9 angle=20"],
)  # fmt: skip
def test_degrading(scene: Picture, step: str) -> None:
    one, *others = each_way(lambda: magnetite.degrade(scene, step).picture)
    assert all(one.same_samples(other) for other in others)


@pytest.mark.parametrize("step", ["dct step=4%", "wavelet step=4%", "predictive"])
def test_coding(scene: Picture, step: str) -> None:
    one, *others = each_way(lambda: magnetite.compress(scene, step).data)
    assert all(one == other for other in others)
    one, *others = each_way(lambda data=one: magnetite.expand(data).samples)
    assert all(np.array_equal(one, other) for other in others)


def test_scoring(scene: Picture) -> None:
    worn = magnetite.degrade(scene, "gaussian-noise sd=5%").picture
    metrics = "mse,psnr,ssim,ms-ssim,gmsd"
    one, *others = each_way(lambda: dict(magnetite.score(scene, worn, metrics)))
    for other in others:
        assert other == pytest.approx(one, rel=1e-12)


def test_the_number_is_an_option(run: Run) -> None:
    done = run("--threads", "none", "scenes", "x", status=2)
    assert "--threads" in done.stderr
    with pytest.raises(ValueError, match="0 threads cannot work"):
        use_threads(0)
    assert threads() == 2


def test_a_band_counts_as_its_plane_on_every_thread() -> None:
    small, large = WORTH_COMPILING // 2, 2 * WORTH_COMPILING

    def worth(_: int) -> bool:
        return worth_compiling(small)

    for count in (1, 2, 5):
        use_threads(count)
        try:
            assert not any(spread(worth, range(8)))
            with band_of(large):
                assert all(spread(worth, range(8)))
                assert all(each(worth, range(8)))
                assert all(done for _, done in stream(worth, range(8), count))
            assert not any(spread(worth, range(8)))
        finally:
            use_threads(cores())


def test_an_import_that_began_before_others_work_waits_for_none(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A thread inside an import and a job that needs the same module do not wait in a circle."""
    monkeypatch.syspath_prepend(tmp_path)
    (tmp_path / "outer_of_two.py").write_text(
        "from threading import events\nevents[0].set()\nevents[1].wait(20)\nimport inner_of_two\n"
    )
    (tmp_path / "inner_of_two.py").write_text("found = 5\n")
    begun, waited = events = threading.Event(), threading.Event()
    monkeypatch.setattr(threading, "events", events, raising=False)
    results: list[int] = []

    def import_it(_: int = 0) -> int:
        import outer_of_two  # type: ignore[import-not-found]

        return int(outer_of_two.inner_of_two.found)

    first = threading.Thread(target=import_it, daemon=True)
    first.start()
    assert begun.wait(20)
    second = threading.Thread(target=lambda: results.extend(spread(import_it, [1, 2])), daemon=True)
    second.start()
    time.sleep(0.3)  # a job holds the imports now, and waits for the module
    waited.set()
    for thread in (first, second):
        thread.join(20)
        assert not thread.is_alive()
    assert results == [5, 5]


@pytest.mark.long
@pytest.mark.parametrize("number", range(6))
def test_a_program_may_call_from_many_threads(number: int, tmp_path: Path) -> None:
    """A fresh process, whose first imports happen in eight threads at once."""
    done = subprocess.run(
        [sys.executable, "-c", MANY_THREADS, str(number)], cwd=tmp_path, capture_output=True,
        text=True, timeout=300,
    )  # fmt: skip
    assert (done.returncode, done.stdout, done.stderr) == (0, "20\n", "")


MANY_THREADS = """
import sys
from concurrent.futures import ThreadPoolExecutor
import numpy as np
import magnetite

STEPS = "gaussian-noise sd=8dn", "box-blur size=3", "salt-pepper density=3%", "jpeg quality=30"
CODECS = "dct step=6%", "wavelet step=6%", "predictive", "svd rank=6"
RESTORATIONS = "median size=3", "gaussian sigma=1px", "nl-means sd=8dn", "bilateral range=9dn"

def job(number):
    rng = np.random.default_rng(number)
    y, x = np.mgrid[:96 + 8 * (number % 4), :128 + 16 * (number % 3)]
    plane = 127 + 60 * np.sin(x / (5 + number % 5)) * np.cos(y / 9) + rng.normal(0, 6, x.shape)
    planes = np.dstack([plane, 0.9 * plane, 0.7 * plane + 20]) if number % 2 else plane
    clean = np.rint(planes.clip(0, 255)).astype(np.uint8)
    worn = magnetite.degrade(clean, STEPS[number % 4], seed=number).picture
    coded = magnetite.compress(worn, CODECS[number // 4 % 4])
    return (
        worn.digest(), coded.data, magnetite.expand(coded.data).digest(),
        magnetite.restore(worn, RESTORATIONS[number // 2 % 4]).picture.digest(),
        magnetite.score(clean, worn, "psnr,ssim,gmsd,vif,mae"),
        magnetite.gauge(worn, "noise-wavelet,sd,entropy,tenengrad,noise-blocks"),
    )

numbers = [number + int(sys.argv[1]) for number in range(20)]
with ThreadPoolExecutor(8) as pool:
    together = list(pool.map(job, numbers))
print(sum(one == job(number) for one, number in zip(together, numbers)))
"""
