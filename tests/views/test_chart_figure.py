"""The figure of a measured chart shows the numbers of the measurement."""

from __future__ import annotations

import numpy as np

import magnetite
from conftest import drawn_chart
from magnetite.views.chart import chart_figure


def test_lines_dots_and_texts_are_the_measured_numbers() -> None:
    picture, chart = drawn_chart()
    camera = "gaussian-blur sigma=0.8px + sensor-noise full-well=4000e read=8e"
    worn = magnetite.degrade(picture, f"to-linear standard=srgb + {camera}", seed=1).picture
    measured = magnetite.calibrate.chart(worn, chart)
    field, responses, tone, noise, colours = chart_figure(measured, "shot").axes[:5]

    squares = np.array([[square.x, square.y] for square in chart.squares])
    near = {
        k: [
            edge.edge.mtf50
            for edge in measured.edges
            if edge.edge and np.hypot(edge.x - x, edge.y - y) < 40
        ]
        for k, (x, y) in enumerate(squares)
    }
    shown = [(text.get_position(), float(text.get_text())) for text in field.texts]
    assert len(shown) == len(chart.squares) // 2
    for (x, y), value in shown:
        own = [k for k, at in enumerate(squares) if abs(at[0] - x) < 60 and 0 < y - at[1] < 60]
        assert len(own) == 2
        assert abs(value - np.mean([v for k in own for v in near[k]])) < 6e-4

    frequency = responses.lines[0].get_xdata()
    curves = [
        np.interp(frequency, one.edge.frequency, one.edge.mtf) for one in measured.edges if one.edge
    ]
    np.testing.assert_allclose(responses.lines[0].get_ydata(), np.median(curves, axis=0))
    band = responses.collections[0].get_paths()[0].vertices
    assert band[:, 1].max() == np.percentile(curves, 95, axis=0).max()
    for line, values in zip(
        responses.lines[1:4],
        [np.nanmean(measured.star.response, axis=0), measured.texture.by_cross,
         measured.texture.by_power],
        strict=True,
    ):  # fmt: skip
        drawn = np.interp(line.get_xdata(), *_known(measured, line.get_label(), values))
        np.testing.assert_allclose(line.get_ydata(), drawn)

    for channel, line in enumerate(tone.lines):
        np.testing.assert_array_equal(line.get_xdata(), measured.tone.light)
        np.testing.assert_array_equal(line.get_ydata(), measured.tone.level[:, channel])
    for model, dots, line in zip(measured.noise, noise.lines[::2], noise.lines[1::2], strict=True):
        assert list(dots.get_ydata()) == [step.noise for step in model.steps]
        signal = line.get_xdata()
        squares_of = line.get_ydata() ** 2
        expected = model.read.value**2 + signal / model.full_well.value
        np.testing.assert_allclose(squares_of, expected + (model.prnu.value * signal) ** 2)

    middle = np.array([450, 300])
    for shift, dots in zip(measured.shifts, colours.lines, strict=True):
        away = shift.points - middle
        distance = np.hypot(*away.T)
        np.testing.assert_allclose(dots.get_xdata(), 100 * distance / np.hypot(450, 300))
        unit = away / distance[:, np.newaxis]
        np.testing.assert_allclose(dots.get_ydata(), (unit * shift.displacement).sum(axis=1))


def _known(measured, label, values):  # type: ignore[no-untyped-def]
    """Frequencies and values of a response, those that are known."""
    frequency = measured.star.frequency if "star" in label else measured.texture.frequency
    known = np.isfinite(values)
    return frequency[known], values[known]
