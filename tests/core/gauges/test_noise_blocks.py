"""The estimate of noise that tells it from texture, against known noise."""

from __future__ import annotations

import re

import numpy as np
import pytest

import magnetite
from magnetite.core.errors import PictureError
from magnetite.core.gauges.noise_blocks import NoiseEstimate, noise_estimate
from magnetite.core.gauges.noise_level import diagonal_counts, noise_of_counts
from magnetite.synthetic.catalogue import SCENES
from photographs import Gray, photographs


def power_law(exponent: float, seed: int, side: int = 256) -> Gray:
    """A Gaussian texture of amplitude f^-exponent, mean 128 and sd 35."""
    rng = np.random.default_rng(seed)
    across = np.fft.fftfreq(side)
    frequency = np.hypot(across[:, np.newaxis], across)
    frequency[0, 0] = 1
    field = np.fft.ifft2(np.fft.fft2(rng.standard_normal((side, side))) / frequency**exponent).real
    return np.asarray((128 + 35 * (field - field.mean()) / field.std()).clip(0, 255))


def ratios(scene: Gray, sd: float, seed: int) -> tuple[float, float, float]:
    """Lower end, estimate and upper end over the noise, rounding (1/12) included."""
    rng = np.random.default_rng([seed, int(sd)])
    noisy = np.rint(scene + sd * rng.standard_normal(scene.shape)).clip(0, 255) / 255
    low, middle, high = (
        255 * noise_estimate(noisy)[k] / (sd**2 + 1 / 12) ** 0.5 for k in (1, 0, 2)
    )
    return low, middle, high


def held(seeds: range, side: int) -> list[bool]:
    """Whether the interval holds, over scenes and textures of several spectra."""
    found = []
    for seed in seeds:
        scenes = [255 * s.picture(side, side, seed).luma().pixels().astype(float) for s in SCENES]
        # The first scene has noise of its own.
        for scene in (*scenes[1:], *(power_law(e, seed, side) for e in (0.9, 1.2, 1.6))):
            for sd in (2, 5, 12):
                low, _, high = ratios(scene, sd, seed)
                found.append(low <= 1 <= high)
    return found


@pytest.mark.long
def test_intervals_hold_on_textures() -> None:
    found = held(range(50, 52), 256)
    assert np.mean(found) >= 0.93, found


@pytest.mark.long
def test_intervals_hold_on_many_textures() -> None:
    found = held(range(60, 80), 320)
    assert np.mean(found) >= 0.95


@pytest.mark.long
def test_estimates_on_photographs_are_within_five_percent() -> None:
    errors = [
        abs(ratios(scene, sd, 1)[1] - 1) for scene in photographs(400) for sd in (2, 4, 8, 12)
    ]
    assert np.mean(np.array(errors) <= 0.05) >= 0.85, np.round(errors, 3)
    assert max(errors) < 0.16, np.round(errors, 3)


def flat_draws(count: int) -> list[NoiseEstimate]:
    """Noise of sd 0.05 on flat ground."""
    return [noise_estimate(np.random.default_rng(k).normal(0.5, 0.05, (200, 200)))
            for k in range(count)]  # fmt: skip


def flat_held(count: int) -> list[bool]:
    return [one.low <= 0.05 <= one.high for one in flat_draws(count)]


def test_the_sampling_error_is_that_of_repeated_draws() -> None:
    """Flat ground: estimates scatter as their intervals say, and lie inside as often."""
    assert 0.91 <= np.mean(flat_held(150)) <= 0.985
    draws = flat_draws(50)
    assert np.mean([one.sd for one in draws]) == pytest.approx(0.05, rel=0.005)
    assert all(one.distinct for one in draws)


def test_it_is_said_where_texture_cannot_be_told_from_noise() -> None:
    found = noise_estimate(power_law(0.9, 0) / 255)
    assert not found.distinct
    assert "cannot be distinguished" in found.words(255, "dn")
    restored = magnetite.restore(power_law(0.9, 0).astype(np.uint8), "sliding-dct")
    (note,) = restored.notes
    assert "cannot be distinguished" in note
    flat = magnetite.restore(
        magnetite.degrade(np.full((128, 128), 128, np.uint8), "gaussian-noise sd=9dn").picture,
        "sliding-dct",
    )
    assert "cannot" not in flat.notes[0]
    assert "(95 %)" in flat.notes[0]


def test_what_has_no_noise_has_none() -> None:
    assert max(noise_estimate(np.full((64, 64), 0.3))) < 1e-12
    with pytest.raises(PictureError, match="16 blocks of 8x8 px"):
        noise_estimate(np.zeros((22, 22)))
    # Below 16 blocks the finest wavelets stand in, without an interval.
    small = magnetite.restore(
        np.random.default_rng(0).integers(90, 160, (16, 16), np.uint8), "bm3d"
    )
    assert "too small for an interval" in small.notes[0]


def test_clipped_blocks_are_left_out_unless_they_are_nearly_all() -> None:
    """Half of the picture is black with clipped noise: the other half tells."""
    rng = np.random.default_rng(5)
    noise = 8 * rng.standard_normal((200, 200))
    half = np.where(np.arange(200) < 100, 0, 120) + noise
    found = noise_estimate(np.rint(half).clip(0, 255) / 255)
    assert found.low <= 8 / 255 <= found.high
    dark = noise_estimate(np.rint(noise).clip(0, 255) / 255)
    assert 0 < dark.sd < 7 / 255


def test_sizes_and_depths_agree() -> None:
    """The same samples in 8 and 16 bits; a picture of four times the area."""
    rng = np.random.default_rng(4)
    noisy = np.rint(128 + 7 * rng.standard_normal((400, 400))).clip(0, 255).astype(np.uint8)
    eight = magnetite.gauge(noisy, "noise-blocks,noise-wavelet")
    sixteen = magnetite.gauge(noisy.astype(np.uint16) * 257, "noise-blocks,noise-wavelet")
    for name, value in eight.items():
        assert sixteen[name] == pytest.approx(value, rel=1e-5)
        assert value == pytest.approx(7, rel=0.03)
    # As in bands, from counts.
    step = 1 / 65535
    counts = diagonal_counts(noisy.astype(np.float64) / 255, 1.0, step)
    assert 255 * noise_of_counts(counts, 1.0, step) == pytest.approx(eight["noise-wavelet"])
    # Of 8 bits, noise below 0.37 dn is none; of 16 bits that hold them it is none, too.
    quiet = np.full((64, 64), 90, np.uint8)
    quiet[::5, ::7] += 1
    for picture in (quiet, quiet.astype(np.uint16) * 257):
        assert magnetite.gauge(picture, "noise-wavelet")["noise-wavelet"] == 0
    large = np.tile(noisy, (4, 4))
    found = magnetite.gauge(large, "noise-blocks")
    assert found["noise-blocks"] == pytest.approx(7, rel=0.03)
    low, high = map(float, re.findall(r"([\d.]+) to ([\d.]+) dn", found.remarks[-1])[0])
    assert 0.9 * 7 < low <= found["noise-blocks"] <= high < 1.1 * 7


@pytest.mark.parametrize("level", [-60, 320])
@pytest.mark.parametrize("share", [0.3, 0.6, 0.9])
def test_clipped_samples_are_no_proof_of_little_noise(level: float, share: float) -> None:
    """A picture in black surroundings, or overexposed for the most part, with noise of 8 dn."""
    rng = np.random.default_rng(1)
    row, column = np.mgrid[:256, :240]
    light = np.where(row < share * 256, level, 120 + 30 * np.sin(column / 30))
    samples = np.rint(light + rng.normal(0, 8, light.shape)).clip(0, 255)
    found = noise_estimate(samples / 255)
    assert found.low * 255 < 8.4
    assert found.high * 255 > 7.6
    assert found.sd * 255 == pytest.approx(8, rel=0.06)
    # Graphics on white, of flat areas alone, have none.
    assert noise_estimate(np.where(samples < 255, 90, samples) / 255) == (0, 0, 0)


def test_a_pattern_whose_blocks_are_all_alike_has_an_estimate() -> None:
    """Their powers differ by rounding alone, below the distance of neighbouring numbers."""
    for samples in (np.indices((64, 80)).sum(0) % 2 * 50 + 60, np.indices((96, 96))[0] % 4 * 30):
        found = noise_estimate(samples / 255)
        assert found.low <= found.sd <= found.high < 1
