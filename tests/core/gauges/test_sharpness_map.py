"""Sharpness over the field: widths of tiles, and what the view draws of them."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from scipy import ndimage

import magnetite
from conftest import Run, size_of
from magnetite.core.edges.slanted_edge import measure_edges
from magnetite.core.gauges.edge_width import edge_width, edge_width_map
from magnetite.core.picture import as_picture
from magnetite.synthetic.catalogue import SCENES
from magnetite.views.sharpness import RISE_TIMES_MTF50, sharpness_figure


def bars(sigmas: tuple[float, ...]) -> np.ndarray:
    """Bars 32 px apart, each part of 128 px blurred by a Gaussian of its own."""
    x = np.arange(128 * len(sigmas))
    plane = np.broadcast_to(0.2 + 0.6 * ((x // 32) % 2), (128, x.size))
    parts = [ndimage.gaussian_filter1d(plane, sigma, axis=1) for sigma in sigmas]
    return np.hstack([part[:, 128 * k : 128 * (k + 1)] for k, part in enumerate(parts)])


def test_widths_of_tiles_are_those_of_their_blur() -> None:
    """The 10-90 % rise of a Gaussian edge is 2.563 σ."""
    sigmas = (1.5, 2.5, 3.5)
    found = edge_width_map(bars(sigmas))
    assert found.tile == 32
    assert found.widths.shape == found.numbers.shape == (4, 12)
    for k, sigma in enumerate(sigmas):
        own = found.widths[:, 4 * k + 1 : 4 * k + 3]  # those at the seams mix two blurs
        assert np.nanmedian(own) == pytest.approx(2.5631 * sigma, rel=0.03)
    total = np.nansum(found.widths * found.numbers) / found.numbers[~np.isnan(found.widths)].sum()
    assert total == pytest.approx(edge_width(bars(sigmas)), rel=0.02)


def test_parts_with_few_edges_have_no_width() -> None:
    plane = bars((1.5, 1.5))
    plane[:, 96:] = plane[0, 96]
    found = edge_width_map(plane)
    assert np.isnan(found.widths[:, 4:]).all()
    assert np.isfinite(found.widths[:, :3]).any()


def test_the_mtf50_of_a_width_is_that_of_its_gaussian() -> None:
    """exp(-2 (π σ f)²) is one half at f; the rise is between ±1.2816 σ."""
    sigma = 1.7
    half = RISE_TIMES_MTF50 / (2 * 1.2815515655446004 * sigma)
    assert math.exp(-2 * (math.pi * sigma * half) ** 2) == pytest.approx(0.5)


def test_slanted_edges_of_a_chart_are_all_found() -> None:
    chart = SCENES[2].picture(640, 448, 0)
    edges = measure_edges(chart, 12)
    assert len(edges) == 8
    regions = [edge.region for edge in edges]
    assert len({(region.left, region.top) for region in regions}) == 8
    assert {round(edge.mtf50, 2) for edge in edges} == {0.65}
    assert len(measure_edges(chart, 3)) == 3


def test_the_view_marks_the_edges_and_draws_the_widths(run: Run, tmp_path: Path) -> None:
    chart = SCENES[2].picture(640, 448, 0)
    magnetite.write(chart, tmp_path / "c.png")
    run("view", "sharpness", "c.png", "--out", "s.png")
    assert size_of(tmp_path / "s.png")[0] == 1280
    drawn = sharpness_figure(chart, "chart")
    left, right, key = drawn.axes
    assert len(left.patches) == 8
    assert sorted(t.get_text() for t in left.texts) == sorted(
        f"{edge.mtf50:.3f}" for edge in measure_edges(chart, 12)
    )
    shown = right.images[1].get_array()
    widths = edge_width_map(magnetite.core.picture.luma(chart.pixels())).widths
    np.testing.assert_allclose(shown.filled(np.nan), widths)
    label = key.get_yticklabels()[0].get_text()
    width, half = (float(word.split()[0]) for word in label.split(", "))
    assert half == pytest.approx(RISE_TIMES_MTF50 / width, rel=0.01)
    magnetite.write(as_picture(np.full((40, 40), 90, np.uint8)), tmp_path / "flat.png")
    said = run("view", "sharpness", "flat.png", status=2).stderr
    assert "no part has enough edges" in said
