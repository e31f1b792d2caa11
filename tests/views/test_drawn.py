"""Figures hold the numbers that they state: each is compared with a second computation."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from mpl_toolkits.mplot3d import Axes3D

import magnetite
from conftest import texture
from magnetite.core.calibrate.photon_transfer import photon_transfer
from magnetite.core.gauges.edge_width import edge_width_map
from magnetite.core.gauges.noise_level import noise_curve
from magnetite.core.operations.gauge import GaugeCurves
from magnetite.core.picture import as_picture
from magnetite.core.picture.region import Region
from magnetite.views.calibration import photon_transfer_figure
from magnetite.views.curves import Line, Panel, rate_distortion
from magnetite.views.gauges import curves_figure
from magnetite.views.sharpness import sharpness_figure
from magnetite.views.surface import surface_figure
from magnetite.views.sweep_curves import sweep_figure

STONE = as_picture((texture(60, 90) * 255).astype(np.uint8))


def joints(axes: Axes) -> dict[str, float]:
    """Height at which each label at the right side is joined to its line, by its text."""
    ends = [line for line in axes.lines if not line.get_clip_on()]
    labels = [text for text in axes.texts if text.get_position()[0] == 1.04]
    return {
        text.get_text(): float(np.asarray(line.get_ydata())[0])
        for text, line in zip(labels, ends, strict=True)
    }


def test_labels_of_a_sweep_join_the_right_ends_of_its_lines() -> None:
    """Values are swept in the order that was typed, and drawn by size."""
    made = magnetite.sweep(STONE, "dct step=20dn,2dn,8dn block=8,4")
    *_, axes = sweep_figure(made, curve=True).axes
    by_name = {
        f"block={block}": [
            magnetite.score(
                STONE, magnetite.compress(STONE, f"dct step={step}dn block={block}").picture, "ssim"
            )["ssim"]
            for step in (2, 8, 20)
        ]
        for block in (4, 8)
    }  # fmt: skip
    drawn = [line for line in axes.lines if line.get_clip_on()]
    assert axes.get_title(loc="left") == "ssim"
    for line, scores in zip(drawn, (by_name["block=8"], by_name["block=4"]), strict=True):
        assert list(line.get_xdata()) == [2, 8, 20]
        assert list(line.get_ydata()) == pytest.approx(scores)
    assert joints(axes) == pytest.approx({name: scores[-1] for name, scores in by_name.items()})


def test_distances_from_the_photon_transfer_line_are_those_of_its_chi_square() -> None:
    levels = [np.full((160, 200), round(share * 65535), np.uint16) for share in (0.1, 0.3, 0.6)]
    frames = [
        magnetite.degrade(level, "sensor-noise full-well=2000e read=15e", seed=seed).picture
        for level in levels for seed in range(3)
    ]  # fmt: skip
    result = photon_transfer(frames)
    left, right = photon_transfer_figure(result, "dn").axes
    x, pulls = (np.asarray(data) for data in right.lines[-1].get_data())
    freedom = result.points.used.sum() - 2
    assert (pulls**2).sum() / freedom == pytest.approx(result.line.chi_square, rel=1e-3)
    height = result.line.intercept.value + result.line.slope.value * x
    variance = np.asarray(left.containers[0].lines[0].get_ydata())
    assert (np.sign(pulls) == np.sign(variance - height)).all()
    bars = np.array([bar[:, 1] for bar in left.containers[0].lines[2][0].get_segments()])
    error = np.diff(bars, axis=1)[:, 0] / 2
    assert pulls == pytest.approx((variance - height) / error)
    count = result.points.count[result.points.used]
    assert error == pytest.approx(np.sqrt(2 / count) * height)  # of a variance of normal numbers


def test_a_landscape_has_the_heights_of_its_region(monkeypatch: pytest.MonkeyPatch) -> None:
    drawn: list[Any] = []
    draw = Axes3D.plot_surface

    def kept(axes: Axes3D, *data: Any, **more: Any) -> Any:
        drawn[:] = data
        return draw(axes, *data, **more)

    monkeypatch.setattr(Axes3D, "plot_surface", kept)
    surface_figure(STONE, "a", Region(10, 5, 30, 20))
    x, y, heights = drawn
    np.testing.assert_allclose(heights, STONE.samples[5:25, 10:40], atol=1e-4)
    np.testing.assert_allclose(x[0], np.arange(10, 40) + 0.5)
    np.testing.assert_allclose(y[:, 0], np.arange(5, 25) + 0.5)
    large = as_picture((texture(300, 500) * 255).astype(np.uint8))
    surface_figure(large, "a")
    x, _, heights = drawn
    assert heights.shape == (75, 125)
    assert heights[3, 7] == pytest.approx(large.samples[12:16, 28:32].mean(), abs=1e-4)
    assert x[0, 7] == 30


def test_noise_curves_have_bars_of_two_standard_errors() -> None:
    rng = np.random.default_rng(0)
    scene = np.tile(np.linspace(60, 190, 320), (240, 1)) + rng.normal(0, 6, (240, 320))
    curve = noise_curve(np.rint(scene), 255.0)
    (axes,) = curves_figure(GaugeCurves(curve, None, ()), "a").axes
    bars = np.array([bar[:, 1] for bar in axes.containers[0].lines[2][0].get_segments()])
    np.testing.assert_allclose(bars.mean(axis=1), curve.sd)
    # The sd of a median of m sizes of normal numbers, 1 / (2 φ √m), over the median.
    middle = 0.6744897501960817
    density = 2 * math.exp(-(middle**2) / 2) / math.sqrt(2 * math.pi)
    share = 1 / (2 * density * np.sqrt(curve.samples / 4)) / middle
    np.testing.assert_allclose(np.diff(bars, axis=1)[:, 0] / 4, share * curve.sd, rtol=0.01)


def test_infinite_scores_are_counted_not_drawn() -> None:
    points = [(0.5, 30.0), (1.0, 36.0), (2.0, math.inf)]
    panel = Panel("psnr (dB)", [Line("a", points), Line("exact", [(3.0, math.inf)], 1)])
    (axes,) = rate_distortion([panel], "t").axes
    assert axes.get_title(loc="left") == "psnr (dB); 1 infinite value not drawn"
    assert list(axes.lines[0].get_ydata()) == [30, 36]
    assert any("exact: without loss, 3 bpp" in text.get_text() for text in axes.texts)


def test_the_map_of_sharpness_is_that_of_edge_widths() -> None:
    y, x = np.mgrid[:256, :256]
    sigma = np.where(x < 128, 1.0, 2.5)
    waves = 0.5 + 0.35 * np.tanh(8 * np.sin(x / 9 + y / 31) / sigma)
    picture = as_picture(np.rint(255 * waves).astype(np.uint8))
    figure: Figure = sharpness_figure(picture, "a")
    found = edge_width_map(picture.pixels())
    shown = np.ma.filled(figure.axes[1].images[1].get_array(), np.nan)
    np.testing.assert_array_equal(shown, found.widths)
    assert np.nanmean(shown[:, -1]) > np.nanmean(shown[:, 0])
    for label in figure.axes[2].get_yticklabels():
        width, response = (float(part.split()[0]) for part in label.get_text().split(","))
        # Of a Gaussian: MTF50 is √(ln 2 / 2) / (π σ), and its edge rises in 2.5631 σ.
        expected = math.sqrt(math.log(2) / 2) / math.pi * 2.5631 / width
        assert response == pytest.approx(expected, rel=0.01)
