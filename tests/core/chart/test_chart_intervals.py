"""Intervals of the chart's figures hold what a picture without noise gives."""

from __future__ import annotations

import json

import numpy as np
import pytest

import magnetite
from chart_shots import Array, shot
from magnetite.core.calibrate.fitting import Estimate
from magnetite.core.chart.colour import _with_interval, measure_colours
from magnetite.core.chart.exposure import clipped_samples
from magnetite.core.chart.mapping import Mapping
from magnetite.core.chart.measurement import _texture, measure_chart
from magnetite.core.chart.record import as_record
from magnetite.core.chart.resolution import StarResponse, measure_star
from magnetite.core.chart.result import _error_of_median
from magnetite.core.chart.texture import Texture
from magnetite.core.chart.tone import measure_tone
from magnetite.core.picture import as_picture

#: Never below 0, so that their errors are not even about the truth, which is 0 here.
ONE_SIDED = ("colour error", "overshoot")


def trials(chain: str, count: int, size: tuple[int, int]) -> tuple[dict[str, Array], Array]:
    """Whether each figure's interval holds the truth, and errors over standard errors."""
    chart = magnetite.chart(*size)[1]
    record = json.loads(json.dumps(as_record(chart)))
    light = as_picture((0.02 + 0.85 * shot(record, size, np.eye(3), sigma=0.8)).astype(np.float32))
    quiet = " + ".join(step for step in chain.split(" + ") if "noise" not in step)
    clean = magnetite.degrade(light, quiet).picture if quiet else light
    truth = {(row.figure, row.unit): row.value for row in measure_chart(clean, chart).rows()}
    held: dict[str, list[bool]] = {}
    errors = []
    for seed in range(count):
        noisy = magnetite.degrade(light, chain, seed=seed).picture
        for row in measure_chart(noisy, chart, "linear").rows():
            true = truth.get((row.figure, row.unit))
            if true is None or "PRNU" in row.figure:  # there is none, nor noise in the clean one
                continue
            assert row.low is not None, row
            assert row.high is not None, row
            held.setdefault(row.figure, []).append(row.low <= true <= row.high)
            if not row.figure.startswith(ONE_SIDED):
                errors.append((row.value - true) * 2 * 1.96 / (row.high - row.low))
    return {figure: np.array(hits) for figure, hits in held.items()}, np.array(errors)


@pytest.mark.long
def test_every_figure_has_an_interval() -> None:
    held, errors = trials("sensor-noise full-well=4000e read=8e", 1, (900, 600))
    assert len(held) == 20
    assert {"MTF10, median", "MTF50, star", "fall-off in the corners", "black level"} <= set(held)
    assert 0.5 < np.sqrt(np.mean(errors**2)) < 1.6


@pytest.mark.long
def test_errors_are_as_large_as_the_spread_of_many_pictures() -> None:
    size, rng = (900, 600), np.random.default_rng(4)
    chart = magnetite.chart(*size)[1]
    mapping = Mapping(np.eye(3), 0.0, 0.0, *size)
    record = json.loads(json.dumps(as_record(chart)))
    clean = 0.02 + 0.85 * shot(record, size, np.eye(3), sigma=0.8)
    found: dict[str, list[tuple[float, float]]] = {}
    for _ in range(10):
        noise = np.sqrt(clean / 4000 + 4e-6) * rng.normal(size=clean.shape)
        pixels = clean + noise
        tone, falloff, _ = measure_tone(pixels, chart, mapping, "linear", 0.0)
        light = tone.decode(pixels).mean(axis=2)
        star = measure_star(light, chart, mapping).mtf50
        texture = _texture(light, clipped_samples(pixels, 0.0), chart, mapping)
        assert star is not None
        assert tone.black_level is not None
        assert falloff.corners is not None
        colours = measure_colours(pixels, chart, mapping, tone, falloff, 0.0)
        figures = {
            "star": star, "black level": tone.black_level, "fall-off": falloff.corners,
            **texture.at(0.25), **{f"{k} at 0.1": v for k, v in texture.at(0.1).items()},
        }  # fmt: skip
        for name, estimate in figures.items():
            found.setdefault(name, []).append((estimate.value, estimate.error))
        # Right colours show a difference by noise alone: 0 is within the interval.
        for colour in (colours.mean, colours.high):
            assert colour.low < 0.3 * colour.value < colour.value < colour.high
    for name, pairs in found.items():
        values, errors = np.array(pairs).T
        assert 0.4 < values.std(ddof=1) / np.median(errors) < 1.75, name


def test_the_interval_of_a_colour_error_is_that_of_its_patches() -> None:
    """Against draws of the patches themselves, where the colours are off by far more than noise."""
    middle = Estimate.of(3.0, 0.1)
    drawn = np.random.default_rng(0).normal(3.05, 0.1, 4000)
    far = _with_interval(np.array(3.0), drawn, np.full(400, 0.2))
    assert (far.low, far.high) == pytest.approx((middle.low, middle.high), abs=0.01)
    near = _with_interval(np.array(0.5), 0.1 * drawn, np.full(400, 0.49))
    assert near.low == pytest.approx(np.sqrt(0.25 - 0.49**2))
    assert _with_interval(np.array(0.5), 0.1 * drawn, np.full(400, 0.6)).low == 0


@pytest.mark.parametrize("half", [0.161, 0.19])
def test_the_error_of_the_stars_mtf50_is_the_spread_of_its_draws(half: float) -> None:
    """Eight directions whose response falls on a line through 0.5 at the frequency."""
    rng = np.random.default_rng(2)
    frequency = np.arange(0.08, 0.33, 0.04)
    error = np.where(frequency < 0.17, 0.004, 0.02) * np.ones((8, 1))
    true = 0.5 - 3 * (frequency - half) * np.ones((8, 1))

    def star(response: Array) -> Estimate:
        found = StarResponse(np.arange(8.0), frequency, response, error).mtf50
        assert found is not None
        return found

    drawn = [star(true + error * rng.normal(size=true.shape)).value for _ in range(2000)]
    assert star(true).value == pytest.approx(half)
    # Of a draw the crossing moves between rings as well, which a straight line does not tell.
    assert star(true).error == pytest.approx(np.std(drawn), rel=0.06)


def test_the_error_of_a_median_is_that_of_its_values() -> None:
    """Values that are all the same, and values that differ by far more than their errors."""
    rng = np.random.default_rng(3)
    for spread in (0.0, 30.0):
        true, errors = spread * rng.normal(size=41), rng.choice([1.0, 3.0], 41)
        seen = true + errors * rng.normal(size=(400, 41))
        expected = np.std(np.median(seen, axis=1))
        told = np.mean([_error_of_median(one, errors) for one in seen[:40]])
        assert told == pytest.approx(expected, rel=0.3 if spread == 0 else 0.45), spread


@pytest.mark.long
@pytest.mark.parametrize(
    "chain",
    [
        "sensor-noise full-well=4000e read=8e",
        "mosaic + sensor-noise full-well=4000e read=8e + demosaic",
    ],
)
def test_intervals_of_the_chart_hold_in_many_pictures(chain: str) -> None:
    """The interpolation of a mosaic follows the noise, which moves MTF10 and colour shifts too."""
    held, _ = trials(chain, 60, (1200, 800))
    shares = {figure: float(hits.mean()) for figure, hits in held.items()}
    print(chain, shares)
    assert 0.93 <= np.mean(np.concatenate(list(held.values()))) <= 0.99
    assert min(shares.values()) >= (0.75 if "mosaic" in chain else 0.88), shares


def test_the_response_to_texture_lies_between_its_neighbours() -> None:
    curves = np.array([[1.0, 0.8, 0.5], [1.1, 0.9, 0.4], [0.03, 0.02, 0.01], [0.06, 0.04, 0.02]])
    found = Texture(np.array([0.1, 0.2, 0.4]), *curves)
    for frequency, power, cross in (
        (0.1, 1, 1.1),
        (0.15, 0.9, 1),
        (0.3, 0.65, 0.65),
        (0.4, 0.5, 0.4),
    ):
        at = found.at(frequency)
        assert at["power spectrum"].value == pytest.approx(power)
        assert at["cross spectrum"].value == pytest.approx(cross)
    # Of a mean of two errors.
    assert found.at(0.15)["power spectrum"].error == pytest.approx(np.hypot(0.03, 0.02) / 2)
    assert found.at(0.15)["cross spectrum"].error == pytest.approx(np.hypot(0.06, 0.04) / 2)
