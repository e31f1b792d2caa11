"""Gauges against closed forms, and panels of everything that applies."""

from __future__ import annotations

import csv
import io
import json
import math

import numpy as np
import pytest

import magnetite
from conftest import Run, texture
from magnetite.core.errors import PictureError
from magnetite.core.registry import every
from magnetite.scenes.catalogue import SCENES


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
    for method in every("gauge"):
        if method.name in ("mtf50", "noise-wavelet", "noise-mask", "laplacian-variance"):
            continue  # rounding to 8 bits is itself noise, and this scene is smooth
        figures = [gauged(method.name, p) for p in (coarse, picture, floats)]
        assert figures[1] == pytest.approx(figures[2], rel=1e-3), method.name
        assert figures[0] == pytest.approx(figures[2], rel=0.03, abs=0.003), method.name


def test_tiny_and_flat_pictures_are_answered_or_refused() -> None:
    for shape in ((1, 1), (2, 5), (3, 3)):
        for value in (0, 128, 255):
            flat = np.full(shape, value, np.uint8)
            for method in every("gauge"):
                try:
                    assert math.isfinite(gauged(method.name, flat)), method.name
                except PictureError as error:
                    assert "needs at least" in str(error) or "no straight edge" in str(error)


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
