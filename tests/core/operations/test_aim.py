"""Settings solved for by their effect, on the demo's scenes."""

from __future__ import annotations

import re
import time

import numpy as np
import pytest

import magnetite
import magnetite.core.methods.catalogue
from conftest import Run, sample_pictures, texture
from magnetite.core.errors import ChainError, TargetError
from magnetite.core.picture import as_picture
from magnetite.synthetic.catalogue import DEFAULT_SIZE, SCENES

#: Chains, and a setting whose sharpness is aimed at.
CHAINS = {
    "gaussian-noise sd=auto": "7%",
    "gaussian-blur sigma=auto": "0.8",
    # Without dither a flat tone jumps from level to level, and with it every figure.
    "quantize step=auto dither=rectangular": "5%",
    "dct step=auto block=8 optimise=off smooth=off": "100%",
}


@pytest.mark.parametrize(
    ("chain", "scene"),
    [
        pytest.param(chain, scene, id=f"{chain}-{scene.name}", marks=marks)
        for chain in CHAINS
        for scene in SCENES
        for slow in [scene.name != ("chart-plate" if "noise" in chain else "clay-core")]
        for marks in [pytest.mark.long if slow else ()]
    ],
)
def test_aims_are_reached_on_every_scene(scene: object, chain: str) -> None:
    # Few samples take few values: what moves flat tones in jumps needs many.
    jumps = scene.name == "chart-plate" or chain.startswith("quantize")
    reference = scene.picture(*(DEFAULT_SIZE if jumps else (256, 192)), 0)
    example = magnetite.degrade(reference, chain.replace("auto", CHAINS[chain])).picture
    sharp = magnetite.gauge(example)["laplacian-variance"]
    for aim, tolerance in (
        ("psnr=30", 0.01),
        ("ssim=0.8", 0.0005),
        (f"laplacian-variance={sharp:.6g}", 0.005 * sharp),
    ):
        degraded = magnetite.degrade(reference, chain, aim=aim)
        metric, value = aim.split("=")
        if metric == "laplacian-variance":
            figure = magnetite.gauge(degraded.picture, metric)[metric]
        else:
            figure = magnetite.score(reference, degraded.picture, metric)[metric]
        assert abs(figure - float(value)) <= tolerance
        certificate = degraded.certificate
        assert (certificate.aim.reached, certificate.aim.target) == (figure, float(value))
        assert certificate.aim.tries <= 20
        again = magnetite.degrade(reference, certificate.chain)
        assert again.picture.same_samples(degraded.picture)


def test_what_is_out_of_reach_says_the_range(run: Run, tmp_path: object, tile: object) -> None:
    words = ("degrade", tile, "out.png", "gaussian-noise", "sd=auto", "--aim")
    done = run(*words, "psnr=3", status=1)
    assert done.stderr.startswith("magnetite: psnr=3 is out of reach of gaussian-noise: psnr goes")
    assert "at sd=100%" in done.stderr
    done = run("degrade", tile, "out.png", *["quantize", "bits=auto", "--aim", "psnr=26"], status=1)
    assert "psnr=26 is not met by quantize within 0.01" in done.stderr
    assert not (tmp_path / "out.png").exists()
    assert re.search(r"gives psnr 2[45]\.\d+ \(tolerance 0.01\)", run(*words, "psnr=25").stdout)


@pytest.mark.parametrize(
    ("chain", "aim", "message"),
    [
        ("gaussian-noise sd=auto", None, "auto is solved for with an aim, METRIC=VALUE, only"),
        ("gaussian-noise sd=2%", "psnr=30", "write auto for one in .*, not for 0"),
        ("gaussian-blur sigma=auto + gaussian-noise sd=auto", "psnr=30", "not for 2"),
        ("gaussian-noise sd=auto", "psnr", "is not an aim: write METRIC=VALUE"),
        ("gaussian-noise sd=auto", "pnsr=30", "did you mean psnr"),
        ("motion-blur length=5 angle=auto", "psnr=30", "'auto' is not a number"),
        ("motion-blur length=auto", "=30", "is not an aim"),
    ],
)
def test_aims_that_make_no_sense(chain: str, aim: str | None, message: str) -> None:
    with pytest.raises(ChainError, match=message):
        magnetite.degrade(sample_pictures()["gray 8"], chain, aim=aim)


def test_aims_count_what_overflow_keeps() -> None:
    picture = sample_pictures()["rgb 8"]
    kept = magnetite.degrade(
        picture, "gaussian-noise sd=auto", aim="psnr=12", overflow="keep"
    )  # fmt: skip
    error = kept.picture.samples - picture.pixels()
    assert -10 * np.log10(np.mean(error**2)) == pytest.approx(12, abs=0.011)
    clipped = magnetite.degrade(picture, "gaussian-noise sd=auto", aim="psnr=12")
    sd = [d.certificate.steps[0].findings[0].asked for d in (kept, clipped)]
    assert sd[1] > 1.1 * sd[0], "clipping takes power that stronger noise must make good"


def test_an_aim_may_have_settings_of_its_own() -> None:
    picture = sample_pictures()["gray 8"]
    degraded = magnetite.degrade(picture, "poisson-noise photons=auto", aim="ssim window=7=0.9")
    (figure,) = magnetite.score(picture, degraded.picture, "ssim window=7").values()
    assert figure == pytest.approx(0.9, abs=0.0005)
    with pytest.raises(TargetError, match="out of reach"):
        magnetite.degrade(picture, "gaussian-blur sigma=auto", aim="laplacian-variance=1e7")


def test_an_aim_may_be_a_share_of_the_clean_picture() -> None:
    scene = SCENES[1].picture(160, 120, 0)
    own = magnetite.gauge(scene, "laplacian-variance")["laplacian-variance"]
    blurred = magnetite.degrade(scene, "gaussian-blur sigma=auto", aim="laplacian-variance=50%")
    found = magnetite.gauge(blurred.picture, "laplacian-variance")["laplacian-variance"]
    assert found == pytest.approx(own / 2, rel=0.01)
    assert blurred.certificate.aim is not None
    assert blurred.certificate.aim.target == pytest.approx(own / 2)
    # A gauge that is a share itself takes the percentage as its value.
    salted = magnetite.degrade(scene, "salt-pepper density=auto", aim="impulse-share=2%")
    assert magnetite.gauge(salted.picture, "impulse-share")["impulse-share"] == pytest.approx(
        0.02, abs=0.001
    )
    with pytest.raises(ChainError, match="a percentage is that of a gauge"):
        magnetite.degrade(scene, "gaussian-blur sigma=auto", aim="ssim=50%")


@pytest.mark.parametrize(
    ("verb", "chain", "aim", "words"),
    [
        ("compress", "jpeg", "psnr=80", "psnr goes from .* at quality="),
        ("compress", "png", "psnr=30", "psnr is inf at every setting"),
        ("compress", "svd", "psnr=5", "psnr goes from .* at rank=1 to"),
        ("degrade", "quantize bits=auto", "psnr=2", "psnr goes from .* at bits=1 to"),
        ("compress", "bit-planes", "psnr=33", "whole numbers only; write psnr>=33"),
        ("degrade", "bit-planes keep=auto", "psnr=33", "whole numbers only"),
    ],
)
def test_aims_at_whole_numbers_end(verb: str, chain: str, aim: str, words: str) -> None:
    picture = as_picture((texture(64, 80) * 255).astype(np.uint8))
    start = time.perf_counter()
    solve = magnetite.compress if verb == "compress" else magnetite.degrade
    with pytest.raises(TargetError, match=words):
        solve(picture, chain, aim=aim)
    assert time.perf_counter() - start < 20


def test_at_least_and_at_most_are_the_nearest_that_satisfy() -> None:
    picture = as_picture((texture(64, 80) * 255).astype(np.uint8))
    found = magnetite.compress(picture, "jpeg", aim="ssim>=0.9")
    quality = int(found.step.split("=")[1])
    coarser = magnetite.compress(picture, f"jpeg quality={quality - 1}").picture
    assert found.aim.reached >= 0.9 > magnetite.score(picture, coarser, "ssim")["ssim"]
    few = magnetite.degrade(picture, "quantize bits=auto", aim="psnr>=30").certificate
    (bits,) = (int(s.step.split("=")[1]) for s in few.steps)
    worse = magnetite.degrade(picture, f"quantize bits={bits - 1}").picture
    assert few.aim.reached >= 30 > magnetite.score(picture, worse, "psnr")["psnr"]
    noisy = magnetite.degrade(picture, "gaussian-noise sd=auto", aim="mse<=50")
    assert 49 < magnetite.score(picture, noisy.picture, "mse")["mse"] <= 50
