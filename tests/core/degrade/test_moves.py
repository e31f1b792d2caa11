"""Shifts and rotations put samples where they say, and show metrics' blind spots."""

from __future__ import annotations

import numpy as np
import pytest

import magnetite
from conftest import texture
from magnetite.core.picture.alignment import find_shift


def test_whole_shifts_move_samples_as_they_are() -> None:
    plane = np.random.default_rng(1).integers(0, 256, (20, 30)).astype(np.uint8)
    moved = magnetite.degrade(plane, "shift right=3px down=-2px").picture.samples
    np.testing.assert_array_equal(moved[:-2, 3:], plane[2:, :-3])
    np.testing.assert_array_equal(moved[:-2, :3], plane[2:, 2::-1], "mirrored at the edge")
    colour = np.dstack([plane] * 3)
    many = magnetite.degrade(colour, "shift right=3px down=-2px").picture.samples
    np.testing.assert_array_equal(many[..., 1], moved)


@pytest.mark.parametrize(("right", "down"), [(0.5, 0), (-1.25, 2.75)])
def test_parts_of_a_px_are_those_of_the_wave(right: float, down: float) -> None:
    """A wave of long period, moved, is the wave at the moved positions."""
    y, x = np.mgrid[:64, :80].astype(float)

    def wave(y: np.ndarray, x: np.ndarray) -> np.ndarray:
        return np.asarray(0.5 + 0.3 * np.cos(x / 3) * np.cos(y / 4), np.float32)

    moved = magnetite.degrade(wave(y, x), f"shift right={right}px down={down}px").picture.samples
    np.testing.assert_allclose(moved[8:-8, 8:-8], wave(y - down, x - right)[8:-8, 8:-8], atol=6e-3)
    found = find_shift(wave(y, x), moved)
    assert (found.right, found.down) == pytest.approx((right, down), abs=0.05)


def test_rotations_turn_counter_clockwise_about_the_middle() -> None:
    plane = texture(41, 41).astype(np.float32)
    turned = magnetite.degrade(plane, "rotate angle=90").picture.samples
    np.testing.assert_allclose(turned, np.rot90(plane), atol=1e-5)
    there = magnetite.degrade(plane, "rotate angle=11").picture
    back = magnetite.degrade(there, "rotate angle=-11").picture.samples
    assert np.abs(back - plane)[12:-12, 12:-12].max() < 0.08
    middle = slice(15, 26)
    assert abs(there.samples[20, 20] - plane[20, 20]) < 1e-4
    assert there.samples[middle, middle].shape == (11, 11)


def test_a_shift_of_half_a_px_is_damage_for_psnr() -> None:
    plane = (255 * texture(64, 64)).astype(np.uint8)
    moved = magnetite.degrade(plane, "shift right=0.5px").picture
    assert magnetite.score(plane, moved, "psnr")["psnr"] < 45
