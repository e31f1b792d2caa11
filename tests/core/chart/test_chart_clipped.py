"""What is clipped at black or full scale is left out of every figure, with its reason."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy import ndimage

from conftest import drawn_chart
from magnetite.core.chart.camera import camera_of
from magnetite.core.chart.colour import measure_colours
from magnetite.core.chart.exposure import clipped_samples, is_clipped
from magnetite.core.chart.falloff import Falloff
from magnetite.core.chart.mapping import Mapping
from magnetite.core.chart.measurement import measure_chart
from magnetite.core.chart.result import ChartMeasurement
from magnetite.core.chart.tone import Tone, measure_tone
from magnetite.core.picture import Picture

Array = np.ndarray
#: A chart of 900x600 px that fills the picture.
UPRIGHT = Mapping(np.eye(3), 0.0, 0.0, 900, 600)


@pytest.fixture(scope="module")
def light() -> Array:
    """Linear light of a chart under a Gaussian blur of 1 px."""
    samples = np.asarray(drawn_chart()[0].samples) / 65535
    return ndimage.gaussian_filter(((samples + 0.055) / 1.055) ** 2.4, (1, 1, 0))


def measured(light: Array, noise: float = 0.004) -> ChartMeasurement:
    seen = light + noise * np.random.default_rng(0).normal(size=light.shape)
    samples = np.rint(65535 * seen.clip(0, 1)).astype(np.uint16)
    return measure_chart(Picture(samples, 16, "rgb"), drawn_chart()[1])


def notes_of(found: ChartMeasurement) -> str:
    return "; ".join(found.remarks)


def test_overexposed_parts_are_left_out(light: Array) -> None:
    """The star is clipped, and the light colours; the background and the edges are not."""
    chart = drawn_chart()[1]
    found = measured(1.8 * light)
    assert found.star is None
    assert found.texture is None
    assert "no star: clipped at" in notes_of(found)
    assert "no texture: clipped at" in notes_of(found)
    assert "denoised" not in notes_of(found)
    assert found.colours is not None
    bright = sum(1.8 * max(patch.light) > 1.02 for patch in chart.colours)
    assert bright <= found.colours.missing <= bright + 2
    assert f"{found.colours.missing} of {len(chart.colours)} colour patches left out" in notes_of(
        found
    )
    assert all(edge.edge is not None for edge in found.edges)
    wanted = 0.1802  # exp(-2 (pi f)²) sinc(f) = 1/2
    assert np.exp(-2 * (np.pi * wanted) ** 2) * np.sinc(wanted) == pytest.approx(0.5, abs=1e-3)
    for mean in found.sharpness().values():
        assert mean.value == pytest.approx(wanted, rel=0.01)


def test_edges_that_one_channel_clips_are_left_out(light: Array) -> None:
    """Luma stays below full scale, and the background of red does not."""
    found = measured(light * [2.4, 1, 1])
    assert not found.sharpness()
    assert f"{len(found.edges)} of {len(found.edges)} edges left out: clipped at" in notes_of(found)
    assert found.falloff.corners is None
    assert "fall-off in the corners" not in [row.figure for row in found.rows()]
    assert "64 of 64 parts of the background left out of the fall-off" in notes_of(found)
    assert found.as_record()["falloff"] is None


def parts(light: Array, noise: float = 0.0) -> tuple[Tone, Falloff, list[str], Array]:
    """Tone response and fall-off of a chart that fills the picture, with notes and samples."""
    pixels = (light + noise * np.random.default_rng(0).normal(size=light.shape)).clip(0, 1)
    return (*measure_tone(pixels, drawn_chart()[1], UPRIGHT, "measured", 1 / 65535), pixels)


def test_a_background_that_is_clipped_in_the_middle_gives_the_fall_off_of_the_remainder(
    light: Array,
) -> None:
    height, width = light.shape[:2]
    y, x = np.mgrid[:height, :width] + 0.5
    square = ((x - width / 2) ** 2 + (y - height / 2) ** 2) / (width**2 + height**2) * 4
    _, falloff, notes, _ = parts(2.1 * light * (1 - 0.4 * square)[..., np.newaxis], 0.004)
    assert "parts of the background left out of the fall-off" in "; ".join(notes)
    assert falloff.corners is not None
    assert falloff.corners.value == pytest.approx(40, abs=3)


def test_the_chain_of_a_camera_says_what_it_leaves_out(light: Array) -> None:
    found = measured(light * [2.4, 1, 1])  # its edges are clipped: little is measured
    assert not [text for text in camera_of(found).remarks if "%" in text or "shift" in text]
    shifted = replace(
        found.shifts[0], displacement=np.add(found.shifts[0].displacement, [0.5, 0.0])
    )
    bent = replace(found.found, mapping=replace(found.found.mapping, k1=-0.02))
    grown = Falloff(np.array([0, 0, 0.05, 0]), 900, 600, np.zeros((4, 4)))  # overcorrected
    other = replace(found, shifts=(shifted, found.shifts[1]), found=bent, falloff=grown)
    said = "; ".join(camera_of(other).remarks)
    assert "the fall-off of -5.0 % is left out" in said
    assert "the distortion of -2 % is left out" in said
    assert "the shift of red, up to 0.5 px, is left out" in said
    assert "the shift of blue" not in said


def test_colours_that_are_clipped_at_black_are_left_out(light: Array) -> None:
    """Noise that is clipped at black raises the darkest channel, and would be a colour error."""
    chart = drawn_chart()[1]
    tone, falloff, _, pixels = parts(0.7 * light, 0.02)
    found = measure_colours(pixels, chart, UPRIGHT, tone, falloff, 1 / 65535)
    dark = sum(0.7 * min(patch.light) < 2.33 * 0.02 for patch in chart.colours)  # 1 % below
    assert abs(found.missing - dark) <= 2
    assert dark >= 8
    assert found.mean.low <= 0.05
    assert found.mean.value < 0.3


def test_floats_kept_outside_the_range_are_not_clipped() -> None:
    samples = np.array([[[-0.1], [0.0]], [[0.5], [1.0]]])
    assert clipped_samples(samples, 0.0).ravel().tolist() == [False, False, False, True]
    assert clipped_samples(samples + 0.1, 0.0).ravel().tolist() == [True, False, False, False]
    assert not is_clipped(np.zeros((0, 4, 3), bool))
