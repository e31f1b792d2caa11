"""Shifts found between noisy pictures: their intervals, and the noise that resampling leaves."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from scipy.ndimage import fourier_shift, gaussian_filter

import magnetite
from magnetite.core.errors import PictureError
from magnetite.core.picture import as_picture
from magnetite.core.picture.alignment import _peak, _top, aligned, find_shift
from photographs import Gray, photographs


def pair(scene: Gray, by: tuple[float, float], sd: float, seed: int) -> tuple[Gray, Gray]:
    """A scene and the same moved by rows and columns, each with noise of its own."""
    rng = np.random.default_rng(seed)
    wide = np.pad(scene, 64, mode="reflect")
    moved = np.fft.ifft2(fourier_shift(np.fft.fft2(wide), by)).real[64:-64, 64:-64]
    return tuple((one + sd * rng.standard_normal(scene.shape)) / 255 for one in (scene, moved))  # type: ignore[return-value]


def held(scenes: tuple[Gray, ...], seeds: int) -> list[bool]:
    """Whether the interval holds, over blurs, noises and shifts; what is refused does not count."""
    rng, found = np.random.default_rng(7), []
    for blur, sd, scene, seed in itertools.product((0, 1.5, 4), (1, 6, 20), scenes, range(seeds)):
        by = tuple(rng.uniform(-2, 2, 2))
        smooth = gaussian_filter(scene, blur) if blur else scene
        try:
            shift = find_shift(*pair(smooth, by, sd, seed))
        except PictureError:
            continue
        off = max(abs(shift.down - by[0]), abs(shift.right - by[1]))
        assert off < 0.5
        found.append(off <= shift.error)
    return found


@pytest.mark.long
def test_intervals_hold_on_smooth_noisy_pictures() -> None:
    found = held(photographs(256)[:2], 1)
    assert len(found) >= 12
    assert np.mean(found) >= 0.9


@pytest.mark.long
def test_intervals_hold_on_many_pictures() -> None:
    found = held(photographs(256), 12)
    assert len(found) >= 450
    assert 0.93 <= np.mean(found) <= 0.97 + np.sqrt(0.97 * 0.03 / len(found))


def test_resampling_keeps_the_power_of_noise() -> None:
    """By half a px, where interpolation would take off most: two noises of 10 dn differ by 14."""
    one, two = pair(photographs(256)[1], (0.5, -0.5), 10.0, 3)
    both = aligned(as_picture(one.astype(np.float32)), as_picture(two.astype(np.float32)))
    error = magnetite.score(both.reference, both.test, "mse")["mse"]
    assert error == pytest.approx(200, rel=0.03)


def test_the_height_of_a_peak_is_in_sd_of_the_samples_away_from_it() -> None:
    """A small shift keeps it, but for the noise that comes in at the edges."""
    rng = np.random.default_rng(0)
    plane, noise = rng.normal(0, 1, (64, 96)), rng.normal(0, 0.5, (64, 96))
    still = _peak(plane, plane + noise, None).height
    for shift in ((2, -9), (-3, 4)):
        moved = _peak(plane, np.roll(plane, shift, (0, 1)) + noise, None)
        assert (moved.down, moved.across) == pytest.approx(shift, abs=0.1)
        assert 0.8 * still < moved.height < still


@pytest.mark.parametrize("at", [(0.0, 0.0), (0.31, -0.44), (-0.2, 0.05)])
def test_the_top_of_a_tilted_gaussian_is_exact(at: tuple[float, float]) -> None:
    down, across = (np.arange(-1, 2) - a for a in at)
    y, x = down[:, np.newaxis], across[np.newaxis]
    around = 7.3 * np.exp(-0.5 * (0.6 * y**2 + 0.4 * x**2 + 0.3 * x * y))
    assert _top(around) == pytest.approx(at, abs=1e-9)
    assert _top(around - around.min()) == (0, 0)
