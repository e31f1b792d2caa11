"""Figures at levels that a camera's curves do not cross are not those of their ends."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy import ndimage

from conftest import drawn_chart
from magnetite.core.chart.measurement import measure_chart
from magnetite.core.chart.resolution import StarResponse
from magnetite.core.chart.result import ChartMeasurement
from magnetite.core.picture import Picture


def figures(measured: ChartMeasurement) -> dict[str, float | None]:
    return {row.figure: row.value for row in measured.rows()}


@pytest.fixture(scope="module")
def soft() -> ChartMeasurement:
    """A chart whose star is blurred below half of its contrast from the lowest frequency on."""
    picture, chart = drawn_chart()
    decoded = ((np.asarray(picture.samples) / 65535 + 0.055) / 1.055) ** 2.4
    light = ndimage.gaussian_filter(decoded, (3.5, 3.5, 0))
    return measure_chart(Picture(light, None, "rgb"), chart, "linear")


def test_a_star_below_half_from_its_lowest_frequency_on_has_no_mtf50(
    soft: ChartMeasurement,
) -> None:
    star = soft.star
    assert star is not None
    assert "MTF50, star" not in figures(soft)
    lowest, seen = star.frequency[0], star.response[:, 0].mean()
    assert seen == pytest.approx(np.exp(-2 * (np.pi * 3.5 * lowest) ** 2), abs=0.02)
    assert seen < 0.5
    (remark,) = [text for text in soft.remarks if "of the star" in text]
    assert f"lowest frequency, {lowest:.3f} c/px, it keeps {seen:.2f} of" in remark


def test_the_stars_mean_is_over_rings_where_all_directions_are_known(
    soft: ChartMeasurement,
) -> None:
    """Two directions fall through half at 0.15 c/px, two at 0.25, and one of these is not known."""
    frequency = np.arange(0.05, 0.4, 0.05)
    line = 0.5 - 2 * (frequency - np.array([[0.15], [0.15], [0.25], [0.25]]))
    response = np.where((frequency > 0.11) & (np.arange(4)[:, None] == 3), np.nan, line)
    response[:, 4] = line[:, 4]
    star = StarResponse(np.arange(4) * 45.0, frequency, response, 0.02 + 0 * line)
    assert star.mean[0] == pytest.approx([0.05, 0.1, 0.25])
    assert star.mean[1] == pytest.approx(line[:, [0, 1, 4]].mean(axis=0))
    assert star.mean[2] == pytest.approx(0.01)
    assert star.mtf50 is not None
    assert star.mtf50.value == pytest.approx(0.2)
    kept = StarResponse(star.direction, frequency, np.full_like(line, 0.7), star.error)
    (remark,) = [text for text in replace(soft, star=kept).remarks if "of the star" in text]
    assert "highest frequency, 0.350 c/px, it keeps 0.70 of" in remark


def test_an_edge_that_keeps_a_tenth_counts_above_all_others(soft: ChartMeasurement) -> None:
    edges = [one for one in soft.edges if one.edge is not None]
    tenths = sorted(one.edge.mtf10 or 0.0 for one in edges if one.edge)

    def without(count: int) -> ChartMeasurement:
        """The lowest ones do not cross a tenth."""
        kept = [
            replace(one, edge=replace(one.edge, mtf10=None))
            if one.edge and one.edge.mtf10 in tenths[:count] else one
            for one in edges
        ]  # fmt: skip
        return replace(soft, edges=tuple(kept))

    few = without(4)
    assert figures(few)["MTF10, median"] == pytest.approx(np.median(tenths[4:] + [np.inf] * 4))
    assert f"4 of {len(edges)} edges keep more than a tenth" in "; ".join(few.remarks)
    assert "MTF10, median" not in figures(without(len(edges) // 2 + 1))
