"""Noise of cameras from the gray steps of a chart, against simulated cameras of known noise."""

from __future__ import annotations

import json

import numpy as np
import pytest
from scipy import ndimage

import magnetite
from chart_shots import Array, shot
from conftest import drawn_chart
from magnetite.core.chart import noise as noise_module
from magnetite.core.chart import tone as tone_module
from magnetite.core.chart.design import Chart
from magnetite.core.chart.mapping import Mapping
from magnetite.core.chart.noise import measure_noise
from magnetite.core.chart.record import as_record
from magnetite.core.chart.texture import leaves_region, measure_texture, noise_spectrum
from magnetite.core.chart.tone import measure_tone


def cameras(chart: Chart, count: int, seed: int, *, encoded: bool = False) -> Array:
    """Whether the intervals of read noise, full well and PRNU hold the truth: shape (count, 3).

    Linear pictures have a black level of 0.1; encoded ones are those of sRGB in 16 bits.
    """
    rng = np.random.default_rng(seed)
    light = shot(
        json.loads(json.dumps(as_record(chart))), (chart.width, chart.height), np.eye(3), sigma=0
    )[..., 1]
    mapping = Mapping(np.eye(3), 0.0, 0.0, chart.width, chart.height)
    held = []
    for _ in range(count):
        well, read = 10 ** rng.uniform(3, 4.7), rng.uniform(2, 20)
        prnu = rng.choice([0.0, 0.01])
        mean = light * well * (1 + prnu * rng.normal(size=light.shape))
        pixels = (rng.poisson(mean) + rng.normal(0, read, light.shape))[..., np.newaxis] / well
        kind, rounding, black = "linear", 0.0, 0.1
        if encoded:
            kind, rounding, black = "measured", 1 / 65535, 0.0
            pixels = pixels.clip(0, 1)
            curve = 1.055 * np.maximum(pixels, 0.003) ** (1 / 2.4) - 0.055
            pixels = np.rint(np.where(pixels <= 0.0031308, 12.92 * pixels, curve) * 65535) / 65535
        tone, _, _ = measure_tone(pixels + black, chart, mapping, kind, rounding)
        model = measure_noise(pixels + black, chart, mapping, tone, rounding)[0]
        # The black level is not light: full scale lies the rest of the well above it.
        truths = read, (1 - black) * well, prnu
        estimates = model.read_electrons, model.full_well, model.prnu
        held.append([e.low <= t <= e.high for e, t in zip(estimates, truths, strict=True)])
    return np.array(held)


def test_noise_of_steps_its_error_and_the_dynamic_range() -> None:
    """White and correlated noise, with and without rounding, against draws of known variance."""
    chart = drawn_chart()[1]
    light = shot(
        json.loads(json.dumps(as_record(chart))), (chart.width, chart.height), np.eye(3), sigma=0
    )[..., 1]
    mapping = Mapping(np.eye(3), 0.0, 0.0, chart.width, chart.height)
    rng = np.random.default_rng(9)
    full_well, read, dn = 4000.0, 18.0, 1 / 255
    for correlated, rounding in ((False, 0.0), (True, 0.0), (False, dn)):
        ratios, errors, ranges, range_errors = [], [], [], []
        for _ in range(10 if correlated else 4):
            sd = np.sqrt(read**2 + full_well * light) / full_well
            noise = rng.normal(size=light.shape)
            if correlated:  # a mean of two neighbours in each row, scaled to variance 1
                noise = (noise + np.roll(noise, 1, axis=1)) / 2**0.5
            pixels = (0.05 + 0.9 * light + sd * noise)[..., np.newaxis]
            pixels = np.rint(pixels / rounding) * rounding if rounding else pixels
            tone, _, _ = measure_tone(pixels, chart, mapping, "linear", rounding)
            model = measure_noise(pixels, chart, mapping, tone, rounding)[0]
            for step in model.steps:
                truth = np.sqrt(read**2 + full_well * step.light) / full_well / 0.95
                ratios.append(step.noise / truth)
                errors.append(step.error)
            ranges.append(10 ** (model.dynamic_range.value / 20))
            range_errors.append(model.dynamic_range.error / 20 * np.log(10))
            assert model.correlation == pytest.approx(0.5 * correlated, abs=0.08)
        assert np.mean(ratios) == pytest.approx(1, abs=5 * np.std(ratios) / len(ratios) ** 0.5)
        assert np.mean(errors) == pytest.approx(np.std(ratios), rel=0.13)
        assert 0.5 < np.std(np.log(ranges), ddof=1) / np.median(range_errors) < 1.8
        # Signal s, a share of the range above black, has noise n with n² = a + b s: s = n.
        a, b = (read / full_well / 0.95) ** 2, 1 / full_well / 0.95 / 0.9
        assert np.median(ranges) == pytest.approx(1 / max(np.roots([1, -b, -a])), rel=0.05)


def test_the_error_of_the_dynamic_range_is_its_slope_by_the_noise() -> None:
    """Against differences of the decibels themselves, for a camera whose shot noise is large."""
    values = np.array([2e-7, 4e-4, 1e-3])
    for k in range(3):
        covariance = np.zeros((3, 3))
        covariance[k, k] = (1e-3 * values[k]) ** 2
        found = noise_module._dynamic_range(values, covariance)
        more = noise_module._dynamic_range(values + np.sqrt(np.diag(covariance)), covariance)
        assert found is not None
        assert more is not None
        assert found.error == pytest.approx(abs(more.value - found.value), rel=0.01)


def test_intervals_are_widened_where_chance_does_not_explain_the_misfit() -> None:
    """The 99 % point of chi-square of 17 degrees of freedom is 33.409 (published tables)."""
    assert noise_module._widening(33.40 / 17, 17) == 1
    assert noise_module._widening(33.42 / 17, 17) == 33.42 / 17
    assert noise_module._widening(50, 0) == 1


def test_the_mean_light_of_noisy_steps_is_theirs() -> None:
    """The light of their mean is not, where the response bends."""
    rng = np.random.default_rng(5)
    light = np.geomspace(0.002, 0.9, 14)
    samples = [
        np.sqrt((one + np.sqrt(one / 2000 + 1e-6) * rng.normal(size=(30, 30))).clip(0))
        for one in light
    ]
    level = np.array([one.mean() for one in samples])
    decode = tone_module._unbiased_curve(light, level, samples)
    found = np.array([decode(one).mean() for one in samples])
    assert found == pytest.approx(light, rel=0.015)
    plain = tone_module._curve(light, level)
    assert plain(samples[0]).mean() > 1.1 * light[0]


@pytest.mark.long
@pytest.mark.parametrize("encoded", [False, True])
def test_intervals_of_the_noise_hold_the_camera(encoded: bool) -> None:
    held = cameras(drawn_chart()[1], 8, 1, encoded=encoded)
    assert (held.mean(axis=0) >= 0.74).all()


@pytest.mark.long
@pytest.mark.parametrize("encoded", [False, True])
def test_intervals_of_the_noise_hold_for_95_percent_of_200_cameras(encoded: bool) -> None:
    held = cameras(drawn_chart()[1], 200, 2, encoded=encoded)
    assert (held.mean(axis=0)[:2] >= 0.92).all()
    assert (held.mean(axis=0)[:2] <= 0.98).all()


@pytest.mark.parametrize(("kind", "off"), [("linear", 20), ("srgb", 0)])
def test_a_stated_response_that_the_steps_contradict_is_noted(kind: str, off: int) -> None:
    """An encoded picture, whose steps all lie far from a line."""
    picture, chart = drawn_chart()
    mapping = Mapping(np.eye(3), 0.0, 0.0, chart.width, chart.height)
    tone, _, notes = measure_tone(picture.pixels().astype(float), chart, mapping, kind, 1 / 65535)
    assert tone.contradicted == bool(off)
    assert [note.split(" gray")[0] for note in notes] == ([f"{off} of 20"] if off else [])
    assert all(f"stated tone response, {kind}" in note for note in notes)


def test_noise_is_taken_out_of_the_power_of_the_texture() -> None:
    picture, chart = drawn_chart()
    light = magnetite.degrade(picture, "to-linear standard=srgb").picture.pixels()[..., 1]
    mapping = Mapping(np.eye(3), 0.0, 0.0, 900, 600)
    side = leaves_region(light.shape, chart, mapping)[2]
    clean = measure_texture(light, np.zeros((side, side)), 0.0, chart, mapping)
    rng = np.random.default_rng(6)
    noise = ndimage.gaussian_filter(rng.normal(size=light.shape), 0.5)
    noise *= 0.08 / noise.std()
    patches = [noise[k : k + 64, k : k + 64] for k in range(0, 512, 64)]
    spectrum = noise_spectrum(patches, side)
    assert spectrum.mean() == pytest.approx(1, abs=0.1)
    assert spectrum[0, 5] > 3 * spectrum[0, side // 2]  # the noise is not white
    found = measure_texture(light + noise, 0.08**2 * spectrum, 0.0, chart, mapping)
    plain = measure_texture(light + noise, 0 * spectrum, 0.0, chart, mapping)
    low = (clean.frequency > 0.06) & (clean.frequency < 0.35)
    assert (plain.by_power - clean.by_power)[low].max() > 0.15
    assert np.abs(found.by_power - clean.by_power)[low].mean() < 0.05
    assert np.abs(found.by_cross - clean.by_cross)[low].mean() < 0.035
