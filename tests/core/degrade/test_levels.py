"""Quantizers, dither and bit planes: error power, optimality, local means."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import ndimage, stats

import magnetite
from conftest import texture
from magnetite.core.degrade._histogram_levels import lloyd_max, optimal, optimal_levels
from magnetite.core.degrade.certify.change import Change
from magnetite.core.degrade.kernels.dither import bayer, blue_noise
from magnetite.core.degrade.levels import Levels, LevelsSurvey, quantize
from magnetite.core.errors import PictureError
from magnetite.core.picture import Clipped, as_picture

RAMP = np.linspace(0.1, 0.9, 400_000).reshape(400, 1000)


@pytest.mark.parametrize(
    ("settings", "levels"),
    [
        ({"bits": 3}, np.arange(8) / 7),
        ({"levels": 5}, np.arange(5) / 4),
        ({"step": 0.25}, [0, 0.25, 0.5, 0.75, 1]),
        ({"step": 0.3}, [0, 0.3, 0.6, 0.9]),
        ({"step": 0.39}, [0, 0.39, 0.78, 1.17]),
        ({"bits": 2, "rule": "mid-rise"}, np.arange(4) / 4 + 1 / 8),
        ({"step": 0.5, "rule": "mid-rise"}, [0.25, 0.75]),
    ],
)
def test_levels_are_where_they_should_be(settings: dict, levels: list) -> None:
    ramp = np.linspace(0, 1, 20_001).reshape(1, -1)
    coarse = quantize(ramp, **settings)
    np.testing.assert_allclose(np.unique(coarse), levels, atol=1e-12)
    nearest = np.abs(ramp.ravel()[:, None] - np.asarray(levels)).min(axis=1)
    np.testing.assert_allclose(np.abs(coarse - ramp).ravel(), nearest, atol=1e-9)


@pytest.mark.parametrize(
    ("dither", "power"),
    [("none", 1), ("rectangular", 2), ("triangular", 3), ("bayer", 2), ("blue-noise", 2)],
)
def test_error_power_on_a_ramp(dither: str, power: int) -> None:
    """step²/12 of the quantizer itself, and as much again for each step's width of dither."""
    step = 0.05
    rng = np.random.default_rng(1)
    error = quantize(RAMP, rng, step=step, dither=dither) - RAMP
    assert (error**2).mean() == pytest.approx(power * step**2 / 12, rel=0.01)
    findings = magnetite.degrade(RAMP, f"quantize step=5% dither={dither}").certificate.steps[0]
    measured = {f.quantity: f.drawn for f in findings.findings}
    expected = measured["rms error if evenly spread"]
    assert measured["rms error"] == pytest.approx(expected, rel=0.005)


@pytest.mark.parametrize("dither", ["triangular", "error-diffusion", "bayer", "blue-noise"])
def test_dither_keeps_the_local_mean(dither: str) -> None:
    picture = 0.2 + 0.6 * ndimage.gaussian_filter(texture(200, 200), 12)
    coarse = quantize(picture, np.random.default_rng(2), bits=1, dither=dither)
    assert set(np.unique(coarse)) == {0.0, 1.0}
    shift = ndimage.gaussian_filter(coarse - picture, 10)[30:-30, 30:-30]
    assert np.abs(shift).max() < (0.06 if dither == "triangular" else 0.012)
    if dither == "error-diffusion":
        # What is lost leaves over the last row only: the whole picture's mean stays.
        assert abs((coarse - picture).mean()) < 0.001


def test_error_diffusion_is_floyd_and_steinberg() -> None:
    picture = texture(7, 9)
    work = picture.copy()
    for row in range(7):
        order = range(9) if row % 2 == 0 else range(8, -1, -1)
        ahead = 1 if row % 2 == 0 else -1
        for column in order:
            level = float(np.clip(np.rint(work[row, column] * 3), 0, 3)) / 3
            error, work[row, column] = work[row, column] - level, level
            for down, across, weight in ((0, 1, 7), (1, -1, 3), (1, 0, 5), (1, 1, 1)):
                y, x = row + down, column + ahead * across
                if y < 7 and 0 <= x < 9:
                    work[y, x] += error * weight / 16
    np.testing.assert_allclose(quantize(picture, bits=2, dither="error-diffusion"), work)


def test_ordered_patterns_hold_every_rank_once() -> None:
    assert bayer()[:2, :4].tolist() == [[0, 32, 8, 40], [48, 16, 56, 24]]
    assert sorted(bayer().ravel()) == list(range(64))
    ranks = blue_noise()
    assert sorted(ranks.ravel()) == list(range(4096))
    for threshold in (400, 2048):
        power = np.abs(np.fft.fft2((ranks < threshold) - threshold / 4096)) ** 2
        frequency = np.hypot(*np.meshgrid(np.fft.fftfreq(64), np.fft.fftfreq(64)))
        low = power[(frequency > 0) & (frequency < 0.1)].mean()
        assert low < 0.05 * power[frequency > 0.3].mean()


@pytest.mark.parametrize("design", [lloyd_max, optimal])
@pytest.mark.parametrize(
    ("count", "outer", "inner", "distortion"),
    [(2, 0.7979, 0.7979, 0.3634), (4, 1.510, 0.4528, 0.1175), (8, 2.152, 0.2451, 0.03454)],
)
def test_the_published_levels_of_the_normal_law_are_found(
    count: int, outer: float, inner: float, distortion: float, design: Any
) -> None:
    """Max, Quantizing for minimum distortion (1960), table I."""
    normal = stats.norm.ppf((np.arange(40_000) + 0.5) / 40_000).reshape(200, 200)
    coarse = design(normal, count)
    levels = np.unique(coarse)
    assert (levels.max(), levels[count // 2]) == pytest.approx((outer, inner), abs=0.004)
    assert ((coarse - normal) ** 2).mean() == pytest.approx(distortion, rel=0.005)


def least_error(values: np.ndarray, weights: np.ndarray, count: int) -> float:
    """Least squared error of `count` cells, by dynamic programming over all beginnings."""
    n = len(values)
    cost = np.full((n + 1, n + 1), np.inf)
    for i in range(n):
        for j in range(i + 1, n + 1):
            mean = np.average(values[i:j], weights=weights[i:j])
            cost[i, j] = (weights[i:j] * (values[i:j] - mean) ** 2).sum()
    best = cost[0]
    for _ in range(count - 1):
        best = (best[:, np.newaxis] + cost).min(axis=0)
    return float(best[n])


@given(
    st.integers(2, 30).flatmap(lambda n: st.tuples(
        st.lists(st.integers(0, 99), min_size=n, max_size=n, unique=True),
        st.lists(st.integers(1, 9), min_size=n, max_size=n), st.integers(1, n - 1),
    ))
)  # fmt: skip
def test_optimal_levels_are_those_of_dynamic_programming(
    case: tuple[list[int], list[int], int],
) -> None:
    """Even and lumpy histograms, whose partitions tie for many prices, too."""
    values, weights, count = np.sort(case[0]).astype(float), np.array(case[1], float), case[2]
    for each in (weights, np.ones(len(values))):
        levels = optimal_levels(values, each, count)
        assert len(levels) == count
        error = (each * ((values[:, np.newaxis] - levels) ** 2).min(axis=1)).sum()
        assert error == pytest.approx(least_error(values, each, count), rel=1e-9, abs=1e-7)


def test_designs_are_ordered_and_the_certificate_knows_the_least_error() -> None:
    picture = (255 * texture(60, 70) ** 3).astype(np.uint8)
    errors = []
    for design in ("uniform", "lloyd-max", "optimal"):
        step = f"quantize levels=32 design={design}"
        findings = magnetite.degrade(picture, step).certificate.steps[0].findings
        errors.append({f.quantity: f.drawn for f in findings})
    even, settled, best = (one["rms error"] for one in errors)
    assert best < settled < 0.9 * even
    for one in errors[1:]:
        assert one["least rms error possible"] == pytest.approx(best, rel=1e-6)
    # 256 levels of equal frequency in 16 cells: the even quantizer, of error (16² - 1) / 12.
    ramp = np.arange(256, dtype=np.uint8).reshape(16, 16)
    drawn = optimal(ramp.astype(np.float64), 16)
    assert ((drawn - ramp) ** 2).mean() == pytest.approx(255 / 12, rel=1e-12)
    few = np.array([[10, 20], [20, 40]], np.uint8)
    for design in ("lloyd-max", "optimal"):
        assert magnetite.degrade(few, f"quantize levels=3 design={design}").picture.same_samples(
            as_picture(few)
        )
        with pytest.raises(PictureError, match=f"{design} takes bits= or levels= and no dither"):
            magnetite.degrade(picture, f"quantize bits=2 design={design} dither=bayer")


def test_the_step_of_a_certificate_is_measured() -> None:
    """Samples on levels of another step give that one, not the step that was asked for."""
    grid = Levels(0.0, 0.1, 11)
    drawn = (0.1005 * np.random.default_rng(0).integers(0, 9, (40, 50))).astype(np.float32)
    survey = LevelsSurvey(grid, "none")
    sums = survey.of(Change(drawn, drawn, drawn, Clipped(0, 0, 0)))
    (step,) = (f for f in survey.findings(sums) if f.quantity == "step")
    assert step.drawn == pytest.approx(0.1005, rel=1e-6)
    assert step.verdict == "as asked"
    compiled = survey.in_one_pass(drawn, drawn, np.float32(255))
    np.testing.assert_allclose(compiled[5 + 2 :], sums[5:], rtol=1e-6)


def test_bit_planes_are_those_of_the_digital_numbers() -> None:
    every = np.arange(256, dtype=np.uint8).reshape(16, 16)
    for step, mask, extra in (
        ("bit-planes keep=3", 0b11100000, 0),
        ("bit-planes drop=2", 0b11111100, 0),
        ("bit-planes keep=3 fill=middle", 0b11100000, 0b10000),
    ):
        samples = magnetite.degrade(every, step).picture.samples
        np.testing.assert_array_equal(samples, (every & mask) | extra)
        findings = magnetite.degrade(every, step).certificate.steps[0].findings
        measured = {f.quantity: f.drawn for f in findings}
        even = measured["rms error if evenly spread"]
        assert measured["rms error"] == pytest.approx(even, rel=1e-5)
    deep = magnetite.Picture(np.array([[0b101101101101]], np.uint16), 12, "gray")
    assert magnetite.degrade(deep, "bit-planes keep=4").picture.samples[0, 0] == 0b101100000000
    with pytest.raises(PictureError, match="9 of 8 planes cannot be kept"):
        magnetite.degrade(every, "bit-planes keep=9")


def test_tone_steps_are_their_formulas() -> None:
    x = texture(20, 30, 3)
    for step, expected in {
        "contrast factor=0.5 about=40%": 0.4 + 0.5 * (x - 0.4),
        "gamma exponent=2.2": x**2.2,
        "offset by=-7%": x - 0.07,
        "clip low=30% high=60%": x.clip(0.3, 0.6),
        "white-balance red=1.2 blue=0.8": x * [1.2, 1, 0.8],
    }.items():
        np.testing.assert_allclose(magnetite.degrade(x, step).picture.samples, expected)
    flat = magnetite.degrade(np.ones((41, 61)), "vignette loss=0.36").picture.samples
    np.testing.assert_allclose(flat[[0, 0, -1, -1], [0, -1, 0, -1]], 0.64)
    assert flat[20, 30] == 1
    # Light on a ray falls as (1 + a r²)^-2, a such that it is 0.64 at the corner.
    assert flat[0, 30] == pytest.approx((1 + 0.25 * 41**2 / (41**2 + 61**2)) ** -2)
