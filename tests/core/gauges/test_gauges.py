"""Gauges against closed forms, and panels of everything that applies."""

from __future__ import annotations

import csv
import io
import json
import math
import re
import shutil
from pathlib import Path

import numpy as np
import pytest
from scipy.special import gamma, ndtr

import magnetite
from conftest import Run, texture
from magnetite.core.errors import InputError, PictureError
from magnetite.core.gauges.naturalness import asymmetric_gaussian
from magnetite.core.gauges.noise_level import noise_curve
from magnetite.core.methods.catalogue import every
from magnetite.core.picture import Picture
from magnetite.synthetic.catalogue import SCENES

#: Gauges of which rounding is a part.
_MEASURE_ROUNDING = {
    "mtf50", "mtf10", "noise-wavelet", "noise-blocks", "noise-mask", "laplacian-variance",
}  # fmt: skip

GAUGES = [method for method in every("gauge") if method.complete]


def gauged(name: str, samples: object) -> float:
    return magnetite.gauge(samples, name)[name]


def test_sharpness_of_a_ramp() -> None:
    ramp = np.tile(np.arange(0, 120, 3, dtype=np.uint8), (20, 1))
    # Sobel's sum over a slope of 3 is 8 x 3; samples two apart differ by 6.
    assert gauged("tenengrad", ramp) == 24**2
    assert gauged("brenner", ramp) == 36
    assert gauged("tenengrad", ramp.T) == 24**2
    assert gauged("brenner", ramp.T) == 0


def test_high_frequency_share_of_waves_and_noise() -> None:
    x = np.arange(100)
    for period, share in ((10, 0.0), (3, 1.0)):
        wave = 0.5 + 0.3 * np.sin(2 * np.pi * x / period)[None].repeat(90, axis=0)
        wave = wave[:, :99] if period == 3 else wave
        assert gauged("high-frequency-share", wave) == pytest.approx(share, abs=1e-9)
    noise = np.random.default_rng(0).normal(0.5, 0.1, (301, 300))
    # Of all frequencies, a disk of radius 1/4 lies below.
    assert gauged("high-frequency-share", noise) == pytest.approx(1 - math.pi / 16, abs=0.01)
    half = magnetite.gauge(noise, "high-frequency-share above=0.5")[
        "high-frequency-share above=0.5"
    ]
    assert half == pytest.approx(1 - math.pi / 4, abs=0.01)
    assert gauged("high-frequency-share", np.full((8, 8), 0.3)) == 0


@pytest.mark.parametrize("sd", [2, 5, 12, 25, 40])
@pytest.mark.parametrize("name", ["noise-wavelet", "noise-mask"])
def test_noise_is_estimated_within_three_percent(name: str, sd: float) -> None:
    y, x = np.mgrid[:512, :512] / 512
    smooth = (0.3 + 0.4 * x * y).astype(np.float64)
    noisy = magnetite.degrade(smooth, f"gaussian-noise sd={100 * sd / 255:.6f}%", seed=sd)
    assert gauged(name, noisy.picture) == pytest.approx(sd, rel=0.03)
    rounded = np.rint(noisy.picture.samples.clip(0, 1) * 255).astype(np.uint8)
    assert gauged(name, rounded) == pytest.approx(sd, rel=0.03)


def test_noise_below_a_digital_number_of_8_bits_is_found_at_finer_depths() -> None:
    noisy = 0.5 + np.random.default_rng(0).normal(0, 0.15 / 255, (256, 256))
    assert gauged("noise-wavelet", noisy) == pytest.approx(0.15, rel=0.03)
    for bits in (12, 16):
        full = 2**bits - 1
        picture = Picture(np.rint(noisy * full).astype(np.uint16), bits, "gray")
        rounding = 255 / full / np.sqrt(12)
        expected = np.hypot(0.15, rounding)
        assert gauged("noise-wavelet", picture) == pytest.approx(expected, rel=0.04)
        floats = picture.samples / full  # their levels are those of that depth
        assert gauged("noise-wavelet", floats) == pytest.approx(expected, rel=0.04)
    coarse = np.rint(127.5 + 4000 * (noisy - 0.5)).astype(np.uint8)
    stored = coarse.astype(np.uint16) * 257
    assert gauged("noise-wavelet", stored) == pytest.approx(gauged("noise-wavelet", coarse))


def test_noise_curve_follows_the_camera() -> None:
    step = "sensor-noise full-well=9000e read=15e"
    noisy = magnetite.degrade(SCENES[2].picture(640, 448, 0), step).picture
    curve = noise_curve(noisy.on_scale(255), 255.0)
    expected = np.sqrt(curve.signal / 255 * 9000 + 15**2) / 9000 * 255
    assert len(curve.sd) > 10
    assert np.median(np.abs(curve.sd / expected - 1)) < 0.03


def test_noise_curves_hold_the_noise_up_to_both_ends() -> None:
    """Noise is clipped near black and full scale: no level there has a figure."""
    clean, held, ends = np.tile(np.linspace(5, 250, 480), (320, 1)), [], []
    for seed in range(24):
        noise = np.random.default_rng(seed).normal(0, 12, clean.shape)
        curve = noise_curve(np.rint(clean + noise).clip(0, 255), 255.0)
        held += list(np.abs(curve.sd - 12) < 2 * curve.error)
        ends += [curve.signal[0], 255 - curve.signal[-1]]
        assert len(curve.sd) >= 11
    assert np.mean(held) > 0.93
    assert 30 < min(ends) < 50
    black = np.zeros((320, 200))  # clipped areas cost no level
    dark = 9 + np.random.default_rng(1).normal(0, 1.5, (320, 104))
    curve = noise_curve(np.rint(np.hstack([black, dark])), 255.0)
    assert curve.sd == pytest.approx([1.5], rel=0.1)
    with pytest.raises(PictureError, match="apart from black and full scale"):
        noise_curve(np.rint(5 + np.random.default_rng(0).normal(0, 4, (64, 64))).clip(0, 255), 255)


@pytest.mark.parametrize("sigma", [0.8, 1.0, 2.0, 3.5])
def test_edge_width_of_blurred_edges(sigma: float) -> None:
    y, x = np.mgrid[:240, :240].astype(float)
    for tilt in (0.0, 0.1, 0.4, 1.5):
        distance = (x - 120 + np.tan(tilt) * (120 - y)) * np.cos(tilt)
        edge = 0.2 + 0.6 * ndtr(distance / sigma)
        # From 10 % to 90 % a normal distribution takes 2 x 1.2816 sd.
        assert gauged("edge-width", edge) == pytest.approx(2.5631 * sigma, rel=0.04), tilt
        for sd in (0.005, 0.01, 0.03, 0.05):
            noisy = edge + np.random.default_rng(0).normal(0, sd, edge.shape)
            expected = pytest.approx(2.5631 * sigma, rel=0.04 if sd < 0.05 else 0.07)
            assert tilt == 1.5 or gauged("edge-width", noisy) == expected, (tilt, sd)
    assert gauged("edge-width", (x > 100) * 0.5) == pytest.approx(0.71, abs=0.01)


@pytest.mark.parametrize(("size", "offset"), [((8, 8), (0, 0)), ((10, 12), (3, 5))])
def test_blocks_are_found_with_their_grid(size: tuple[int, int], offset: tuple[int, int]) -> None:
    clean = SCENES[0].picture(400, 352, 0)
    coded = magnetite.compress(
        clean, f"dct step=16% block={size[0]}x{size[1]} optimise=off smooth=off"
    ).picture
    cut = coded.samples[offset[0] :, offset[1] :]
    figures = magnetite.gauge(cut, "blockiness,block-height,block-width,block-top,block-left")
    begins = [(size[i] - offset[i]) % size[i] for i in (0, 1)]
    assert list(figures.values())[1:] == [*size, *begins]
    assert figures["blockiness"] > 1
    assert gauged("blockiness", clean) == 0


def test_false_contours_are_told_from_ramps() -> None:
    ramp = np.tile(np.linspace(0, 1, 640), (200, 1))
    steps = magnetite.degrade(ramp, "quantize bits=4").picture
    # 15 contours of 17 dn in every row, over all pairs along rows and columns.
    pairs = 639 * 200 + 640 * 199
    assert gauged("false-contours", steps) == pytest.approx(
        (15 * 17**2 * 200 / pairs) ** 0.5, rel=1e-6
    )
    assert gauged("false-contours", ramp) == 0
    assert gauged("false-contours", magnetite.degrade(steps, "gaussian-noise sd=1%").picture) == 0


def test_false_contours_grow_as_levels_become_fewer() -> None:
    """Gradients in 2 to 128 levels, along rows and aslant; dither and grain take contours away."""
    across = np.tile(np.linspace(0, 1, 1024), (96, 1))
    for gradient in (across, across.T, np.clip(across + across[:, ::-1].T[:96, :1] / 9, 0, 1)):
        found = []
        for bits in (1, 2, 3, 4, 5, 6, 7):
            steps = magnetite.degrade(gradient, f"quantize bits={bits}").picture
            found.append(gauged("false-contours", steps))
            dithered = magnetite.degrade(
                gradient, f"quantize bits={bits} dither=triangular"
            ).picture
            assert bits < 3 or gauged("false-contours", dithered) < found[-1]
        assert found == sorted(found, reverse=True)
        assert found[-1] > 0
    # n - 1 steps of 255 / (n - 1) in every row, over all pairs along rows and columns.
    pairs = 1023 * 96 + 1024 * 95
    for bits in (1, 2, 6):
        levels = 2**bits
        steps = magnetite.degrade(across, f"quantize bits={bits}").picture
        wanted = 255 * math.sqrt(96 / (levels - 1) / pairs)
        assert gauged("false-contours", steps) == pytest.approx(wanted, rel=1e-3)
    for scene in SCENES[:2]:
        grain = scene.picture(200, 150, 0)
        smooth = magnetite.degrade(grain, "gaussian-blur sigma=8px").picture
        coarse = magnetite.degrade(smooth, "quantize bits=3").picture
        assert gauged("false-contours", coarse) > 3 * gauged("false-contours", grain)


def test_activity_and_dynamic_range_of_known_pictures() -> None:
    ramp = np.tile(np.arange(0, 120, 3, dtype=np.uint8), (20, 1))
    assert gauged("activity", ramp) == pytest.approx(3 * 39 / 40)
    assert gauged("activity", np.array([[1, 3], [7, 2]], np.uint8)) == (2 + 5 + 6 + 1) / 4
    y = np.linspace(20, 220, 1000)[:, np.newaxis].repeat(400, axis=1)
    noisy = y + np.random.default_rng(1).normal(0, 2, y.shape)
    picture = magnetite.Picture(np.rint(noisy).astype(np.uint8), 8, "gray")
    spread = np.percentile(noisy, [0.1, 99.9]) @ [-1, 1]
    assert gauged("dynamic-range", picture) == pytest.approx(20 * math.log10(spread / 2), abs=0.3)
    assert gauged("dynamic-range", np.full((9, 9), 3, np.uint8)) == 0
    assert gauged("dynamic-range", ramp) == math.inf


@pytest.mark.parametrize("shape", [0.6, 1.0, 2.0, 4.0])
def test_generalised_gaussians_are_recognised(shape: float) -> None:
    rng = np.random.default_rng(7)
    size = rng.gamma(1 / shape, 1, 400_000) ** (1 / shape)
    left = rng.random(size.size) < 0.4  # widths 2 and 3 give the sides 2 / 5 and 3 / 5
    samples = np.where(left, -2 * size, 3 * size)
    found = np.array(asymmetric_gaussian(samples[np.newaxis]))[:, 0]
    mean = gamma(2 / shape) / gamma(1 / shape)
    assert found == pytest.approx([shape, 2, 3, mean], rel=0.03)


@pytest.mark.long
def test_naturalness_grows_as_pictures_get_worse(run: Run, tmp_path: Path) -> None:
    for seed in ("1", "2"):
        run("scenes", f"good{seed}", "--size", "400x300", "--seed", seed)
    good = [f"good{seed}/{rock}.png" for seed in (1, 2)
            for rock in ("veined-breccia", "speckled-granite", "banded-ironstone")]  # fmt: skip
    done = run("calibrate", "naturalness", *good, "--out", "model.json")
    gauge = done.stdout.splitlines()[-1]
    assert gauge == "naturalness model=model.json"
    record = json.loads((tmp_path / "model.json").read_text())
    assert np.shape(record["covariance"]) == (36, 36)
    shutil.copy(tmp_path / good[0], tmp_path / "copy.png")
    twice = run("calibrate", "naturalness", *good, "copy.png", "--out", "twice.json")
    assert f"copy.png holds the same samples as {good[0]}: it counts once" in twice.stderr
    assert json.loads((tmp_path / "twice.json").read_text()) == record
    with pytest.raises(InputError, match="pictures 1 and 2 hold the same samples"):
        magnetite.fit_naturalness([magnetite.read(tmp_path / good[0])] * 2)
    run("scenes", "trays", "--size", "400x300")
    for chain in ("gaussian-blur sigma=1", "gaussian-noise sd=8%", "quantize bits=3"):
        run("degrade", "trays/veined-breccia.png", "worse.png", *chain.split())
        gauged = run("gauge", "trays/veined-breccia.png", "worse.png", "--metrics", gauge,
                     "--format", "json").stdout  # fmt: skip
        clean, worse = (next(iter(row["gauges"].values())) for row in json.loads(gauged)["rows"])
        assert worse > 1.5 * clean, chain
    (tmp_path / "model.json").write_text('{"kind": "something"}')
    refused = run("gauge", "worse.png", "--metrics", gauge, status=2)
    assert "calibrate naturalness` writes one" in refused.stderr


def test_curves_of_a_picture_are_written(run: Run, tmp_path: Path) -> None:
    run("scenes", "trays")
    run("degrade", "trays/chart-plate.png", "soft.png", "gaussian-blur", "sigma=1")
    run("gauge", "soft.png", "--curves", "curves")
    mtf = np.loadtxt(tmp_path / "curves/soft-mtf.csv", delimiter=",", skiprows=1)
    f, expected = mtf[:60, 0], np.exp(-2 * (np.pi * mtf[:60, 0]) ** 2)
    # The edge is as sharp as a px lets it be before the blur.
    np.testing.assert_allclose(mtf[:60, 1], expected * np.sinc(f), atol=0.02)
    assert (tmp_path / "curves/soft-curves.png").stat().st_size > 10_000
    half = run("gauge", "soft.png", "--region", "0,0,64x48", "--format", "csv").stdout
    assert half != run("gauge", "soft.png", "--format", "csv").stdout


def test_impulses_are_counted() -> None:
    smooth = (60 + 120 * texture(200, 220) ** 0.2).astype(np.uint8)
    struck = magnetite.degrade(smooth, "salt-pepper density=6%").picture
    hit = ((struck.samples == 0) | (struck.samples == 255)).mean()
    assert gauged("impulse-share", struck) == pytest.approx(hit, rel=0.05)
    assert gauged("impulse-share", smooth) == 0


def test_tone_of_known_pictures() -> None:
    levels = np.repeat(np.arange(4, dtype=np.uint8) * 85, 16).reshape(8, 8)
    expected = {"mean": 127.5, "sd": 85 * math.sqrt(1.25), "entropy": 2, "black-share": 0.25,
                "white-share": 0.25}  # fmt: skip
    figures = magnetite.gauge(levels, ",".join(expected))
    assert figures == pytest.approx(expected)
    rgb = np.stack([levels, levels, levels * 0 + 9], axis=-1)
    assert gauged("entropy", rgb) == pytest.approx(4 / 3)
    assert gauged("black-share", rgb) == pytest.approx(1 / 6)
    assert gauged("entropy", np.full((5, 5), 77, np.uint8)) == 0


def test_depths_agree_up_to_their_rounding() -> None:
    picture = SCENES[4].picture(160, 112, 0)
    coarse = magnetite.Picture((picture.samples / 257).round().astype(np.uint8), 8, "gray")
    floats = picture.pixels().astype(np.float64)
    for method in GAUGES:
        if method.name in _MEASURE_ROUNDING:
            continue  # rounding to 8 bits is itself noise, and this scene is smooth
        figures = [gauged(method.name, p) for p in (coarse, picture, floats)]
        assert figures[1] == pytest.approx(figures[2], rel=1e-3), method.name
        assert figures[0] == pytest.approx(figures[2], rel=0.05, abs=0.01), method.name


def test_tiny_and_flat_pictures_are_answered_or_refused() -> None:
    for shape in ((1, 1), (2, 5), (3, 3)):
        for value in (0, 128, 255):
            flat = np.full(shape, value, np.uint8)
            for method in GAUGES:
                try:
                    assert math.isfinite(gauged(method.name, flat)), method.name
                except PictureError as error:
                    assert re.search("needs at least|no straight edge|no edge|too few", str(error))


def test_all_is_everything_that_applies(run: Run, tmp_path: object) -> None:
    run("scenes", "trays", "--size", "200x184")
    breccia, clay = "trays/veined-breccia.png", "trays/clay-core.png"
    run("degrade", breccia, "soft.png", "gaussian-blur", "sigma=1")
    run("degrade", breccia, "softer.png", "gaussian-blur", "sigma=2")
    tests = ["soft.png", "softer.png"]
    row, worse = json.loads(
        run("score", breccia, *tests, "--metrics", "all", "--format", "json").stdout
    )["rows"]
    assert set(row["scores"]) == {method.name for method in every("metric")}
    assert row["scores"]["ms-ssim"] > worse["scores"]["ms-ssim"]
    table = run("score", breccia, *tests, "--metrics", "all").stdout
    (line,) = [line for line in table.splitlines() if line.startswith("ms-ssim")]
    assert line.split()[2].endswith("*"), "the better test has the star"
    done = run("score", clay, clay, "--metrics", "all", "--format", "csv")
    (scores,) = csv.DictReader(io.StringIO(done.stdout))
    assert "sam" not in scores
    assert scores["psnr"] == "inf"
    assert "note: sam left out: sam compares the channels of a pixel" in done.stderr
    gauges = run("gauge", breccia, clay, "--metrics", "all", "--format", "json").stdout
    for entry in json.loads(gauges)["rows"]:
        assert {"entropy", "noise-mask", "tenengrad"} < set(entry["gauges"])
