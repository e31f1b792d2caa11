"""What is clipped at black or full scale is left out of every figure, with its reason."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import ndimage

from conftest import drawn_chart
from magnetite.core.chart.camera import camera_of
from magnetite.core.chart.measurement import measure_chart
from magnetite.core.chart.result import ChartMeasurement
from magnetite.core.picture import Picture

Array = np.ndarray


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


def test_fall_off_shift_and_distortion_under_clipping(light: Array) -> None:
    """The background is clipped in the middle, and the fall-off that of the remainder."""
    height, width = light.shape[:2]
    y, x = np.mgrid[:height, :width] + 0.5
    square = ((x - width / 2) ** 2 + (y - height / 2) ** 2) / (width**2 + height**2) * 4
    shifted = light.copy()
    shifted[..., 0] = ndimage.shift(light[..., 0], (0, 0.5), order=3, mode="nearest")
    found = measured(2.1 * shifted * (1 - 0.4 * square)[..., np.newaxis])
    assert "parts of the background left out of the fall-off" in notes_of(found)
    assert found.falloff.corners is not None
    assert found.falloff.corners.value == pytest.approx(40, abs=3)
    left_out = "; ".join(camera_of(found).remarks)
    assert f"the fall-off of {found.falloff.corners.value:.1f} % is left out" in left_out
    assert "the shift of red, up to 0.5 px, is left out" in left_out
    assert "the shift of blue" not in left_out
    assert "distortion" not in left_out


def test_colours_that_are_clipped_at_black_are_left_out(light: Array) -> None:
    """Noise that is clipped at black raises the darkest channel, and would be a colour error."""
    found = measured(0.7 * light, 0.02)
    assert found.colours is not None
    dark = sum(0.7 * min(patch.light) < 2.33 * 0.02 for patch in drawn_chart()[1].colours)  # 1 %
    assert abs(found.colours.missing - dark) <= 2
    assert dark >= 8
    assert found.colours.mean.low <= 0.05
    assert found.colours.mean.value < 0.3
