"""No result depends on how many threads worked on it."""

from __future__ import annotations

from collections.abc import Callable

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
