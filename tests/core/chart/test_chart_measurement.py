"""The chart measured from pictures that another program renders from its record, of known truth."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from scipy import ndimage

import magnetite
from chart_shots import Array, corners_to, light_at, placed, shot, transfer
from conftest import drawn_chart
from magnetite.core.chart.design import Chart
from magnetite.core.chart.mapping import Mapping, fit_mapping, projected
from magnetite.core.chart.marks import find
from magnetite.core.chart.measurement import measure_chart
from magnetite.core.chart.record import as_record, of_record
from magnetite.core.chart.resolution import measure_star
from magnetite.core.chart.result import ChartMeasurement
from magnetite.core.errors import PictureError
from magnetite.core.metrics.colour import ciede2000
from magnetite.core.picture import Picture, as_picture

SIZE = (855, 570)
#: Weights of red, green and blue (ITU-R BT.601).
LUMA = np.array([0.299, 0.587, 0.114])
SIGMA, BARREL, MAGNIFIED = 0.7, -0.02, (1.0006, 1.0, 0.9996)


@pytest.fixture(scope="module")
def chart() -> Chart:
    return drawn_chart(2)[1]


@pytest.fixture(scope="module")
def record(chart: Chart) -> dict[str, Any]:
    return json.loads(json.dumps(as_record(chart)))


def camera_shot(record: dict[str, Any], size: tuple[int, int], fine: int) -> Array:
    """A camera's linear light: rotated, oblique, with barrel distortion and lateral colour."""
    skew = np.random.default_rng(3).uniform(-9, 9, (4, 2)) * size[0] / SIZE[0]
    chart_size = record["width"], record["height"]
    homography = corners_to(chart_size, placed(record, size, 0.88, 3.0, skew))
    return shot(
        record, size, homography, k1=BARREL, sigma=SIGMA, magnified=MAGNIFIED, fine=fine
    )  # fmt: skip


@pytest.fixture(scope="module")
def seen(record: dict[str, Any]) -> Array:
    return camera_shot(record, SIZE, 4)


@pytest.fixture(scope="module")
def measured(seen: Array, chart: Chart) -> ChartMeasurement:
    return measure_chart(as_picture(seen), chart)


def test_the_drawn_chart_is_what_its_record_says(record: dict[str, Any]) -> None:
    picture, chart = drawn_chart(5)
    own = json.loads(json.dumps(as_record(chart)))
    side = 64
    fine = (np.arange(side * 8) + 0.5) / 8
    elements = [
        *own["marks"], *own["dots"][::50], *own["squares"][::9], *own["steps"][::10],
        *own["colours"][::12], own["star"],
    ]  # fmt: skip
    middles = [(one["x"], one["y"]) for one in elements]
    leaves, star = own["leaves"], own["star"]
    ends = leaves["left"] + leaves["size"] - 20, leaves["top"] + leaves["size"] - 20
    middles += [(leaves["left"] + 9, leaves["top"] + 40), ends, (star["x"] - 60, star["y"] + 50)]
    corners = np.clip(np.array(middles) - side / 2, 0, (900 - side, 600 - side)).astype(int)
    for left, top in corners.tolist():
        fine_light = light_at(own, *np.meshgrid(left + fine, top + fine))
        light = fine_light.reshape(side, 8, side, 8, 3).mean(axis=(1, 3), dtype=np.float64)
        encoded = np.where(light <= 0.0031308, 12.92 * light, 1.055 * light ** (1 / 2.4) - 0.055)
        drawn = picture.samples[top : top + side, left : left + side] / 65535
        assert np.abs(drawn - encoded).max() < 2e-4
    for colour in own["colours"]:
        assert min(colour["light"]) >= 0
        assert max(colour["light"]) <= 1
        lab = cielab(np.array(colour["light"]))
        assert np.allclose(lab, colour["lab"], atol=2e-3)
        assert lab[0] == pytest.approx(min((40, 60, 75), key=lambda v: abs(v - lab[0])), abs=1e-3)
    lights = [step["light"][1] for step in own["steps"]]
    assert lights[0] / lights[-1] == pytest.approx(1000)
    assert as_record(of_record(own)) == as_record(chart)


def cielab(light: Array) -> Array:
    """ISO/CIE 11664-4, with the primaries and the white of IEC 61966-2-1."""
    x = 0.4124 * light[0] + 0.3576 * light[1] + 0.1805 * light[2]
    y = 0.2126 * light[0] + 0.7152 * light[1] + 0.0722 * light[2]
    z = 0.0193 * light[0] + 0.1192 * light[1] + 0.9505 * light[2]
    roots = [
        t ** (1 / 3) if t > 216 / 24389 else (24389 / 27 * t + 16) / 116
        for t in (x / 0.9505, y, z / 1.089)
    ]
    return np.array([116 * roots[1] - 16, 500 * (roots[0] - roots[1]), 200 * (roots[1] - roots[2])])


def test_edges_have_the_response_of_the_blur(measured: ChartMeasurement) -> None:
    check_edges(measured, SIZE)


def check_edges(measured: ChartMeasurement, size: tuple[int, int]) -> None:
    frequency = np.linspace(0, 1, 20_001)
    halves, tenths = [], []
    edges = [edge for edge in measured.edges if edge.edge is not None]
    assert len(edges) >= 64
    for edge in edges:
        along = np.radians(edge.direction)
        curve = np.exp(-2 * (np.pi * SIGMA * frequency) ** 2)
        curve *= np.sinc(frequency * np.cos(along)) * np.sinc(frequency * np.sin(along))
        # Lateral colour: the luma of three edges that lie apart along the normal.
        away = np.array([edge.x - size[0] / 2, edge.y - size[1] / 2])
        outwards = float(away @ [np.cos(along), np.sin(along)])
        shifts = (np.array(MAGNIFIED) - 1) * outwards
        curve *= np.abs(LUMA @ np.exp(2j * np.pi * np.outer(shifts, frequency)))
        assert edge.edge is not None
        halves.append((edge.edge.mtf50 or 0) / frequency[np.argmax(curve < 0.5)])
        tenths.append((edge.edge.mtf10 or 0) / frequency[np.argmax(curve < 0.1)])
    assert 0.98 < min(halves) <= max(halves) < 1.02
    assert 0.96 < min(tenths) <= max(tenths) < 1.04
    # The direction is that across the edge: a square's four edges are at right angles.
    directions = np.array([edge.direction for edge in measured.edges]).reshape(-1, 4)
    assert np.abs(np.diff(directions, axis=1) % 90 - 90 * (np.diff(directions) % 90 > 45)).max() < 2
    for edge in edges:
        away = np.array([edge.x - size[0] / 2, edge.y - size[1] / 2])
        assert edge.field == pytest.approx(np.hypot(*away) / np.hypot(*size) * 2)
        radial = abs(np.cos(np.radians(edge.direction) - np.arctan2(*away[::-1])))
        expected = (
            "centre" if edge.field <= 0.1 else "radial" if radial > 0.5**0.5 else "tangential"
        )
        assert edge.orientation == expected


def test_means_over_the_field_are_those_of_their_edges(measured: ChartMeasurement) -> None:
    found = measured.sharpness()
    assert list(found) == ["centre", "corners, radial", "corners, tangential"]
    for words, mean in found.items():
        where, *orientation = words.split(", ")
        own = [
            edge.edge
            for edge in measured.edges
            if edge.edge is not None
            and (edge.field <= 0.35 if where == "centre" else edge.field >= 0.65)
            and orientation in ([], [edge.orientation])
        ]
        halves = np.array([[edge.mtf50, edge.mtf50_error] for edge in own], float)
        assert len(own) >= 6
        assert mean.value == pytest.approx(halves[:, 0].mean())
        error = np.sqrt((halves[:, 1] ** 2).sum()) / len(own)  # independent errors, 95 %
        assert (mean.low, mean.high) == pytest.approx((mean.value - error, mean.value + error))


@pytest.mark.long
def test_figures_hold_for_a_picture_of_8_by_8_points_a_px() -> None:
    chart = magnetite.chart(1350, 900, seed=2)[1]
    size = 1282, 855
    light = camera_shot(json.loads(json.dumps(as_record(chart))), size, 8)
    found = measure_chart(as_picture(light), chart)
    check_edges(found, size)
    check_star_and_texture(found)
    check_geometry(found, size)


def test_star_and_texture_have_the_same_response(measured: ChartMeasurement) -> None:
    check_star_and_texture(measured)


def check_star_and_texture(measured: ChartMeasurement) -> None:
    star, texture = measured.star, measured.texture
    assert star is not None
    assert texture is not None
    low = star.frequency < 0.4
    expected = transfer(star.frequency, SIGMA)
    assert np.nanmax(np.abs(star.response - expected)[:, low]) < 0.02
    expected = transfer(texture.frequency, SIGMA)
    low = texture.frequency < 0.25
    assert texture.frequency[-1] > 0.48  # up to half the sampling rate
    for curve in (texture.by_cross, texture.by_power):
        assert np.abs(curve - expected)[low].max() < 0.01
        assert np.abs(curve - expected).max() < 0.03


def test_the_star_tells_directions_and_is_not_raised_by_noise() -> None:
    """A blur along rows lowers modulation along rows alone; noise alone has none."""
    picture, chart = drawn_chart()
    light = magnetite.degrade(picture, "to-linear standard=srgb").picture.pixels()[..., 1]
    mapping = Mapping(np.eye(3), 0.0, 0.0, 900, 600)
    found = measure_star(ndimage.gaussian_filter1d(light, 1.5, axis=1), chart, mapping)
    plain = measure_star(light, chart, mapping)
    assert plain.direction.tolist() == [0, 45, 90, 135]
    at = (found.frequency > 0.1) & (found.frequency < 0.2)
    ratio = np.nanmean((found.response / plain.response)[:, at], axis=1)
    blur = np.exp(-2 * (np.pi * 1.5 * found.frequency[at]) ** 2).mean()
    assert ratio[0] == pytest.approx(blur, rel=0.12)
    assert ratio[2] > 0.93
    assert ratio[0] < ratio[1] < ratio[2]
    assert ratio[1] == pytest.approx(ratio[3], abs=0.05)
    noise = np.random.default_rng(3).normal(0.4, 0.2, light.shape)
    empty = measure_star(noise, chart, mapping).response
    assert 0.4 < np.mean(empty[np.isfinite(empty)] == 0) < 0.9


def test_geometry_colours_and_fall_off(measured: ChartMeasurement) -> None:
    check_geometry(measured, SIZE)


def check_geometry(measured: ChartMeasurement, size: tuple[int, int]) -> None:
    assert measured.distortion.value == pytest.approx(100 * BARREL, abs=0.05)
    corner = np.hypot(*size) / 2
    for shift, factor in zip(measured.shifts, (MAGNIFIED[0], MAGNIFIED[2]), strict=True):
        # Beyond the dots the distortion bends the shift: a displacement of (m - 1) r at all r.
        away = np.hypot(*(shift.points - np.array(size) / 2).T)
        expected = (factor - 1) * away
        outwards = np.hypot(*shift.displacement.T) * np.sign(factor - 1)
        assert np.abs(outwards - expected).max() < 0.02
        assert shift.corners.value == pytest.approx((factor - 1) * corner, abs=0.03)
        assert shift.largest == pytest.approx(np.abs(expected).max(), abs=0.02)
    assert measured.colours is not None
    assert measured.colours.mean.value < 0.1
    assert abs(measured.falloff.corners.value) < 0.1
    assert measured.tone.kind == "linear"


def test_the_mapping_is_fitted_and_inverted(chart: Chart) -> None:
    corners = placed({"width": 900, "height": 600}, SIZE, 0.9, -4, np.array([[9, 2], [0, 5]] * 2))
    truth = Mapping(corners_to((900, 600), corners), 0.012, -0.005, *SIZE)
    points = np.array([[dot.x, dot.y] for dot in chart.dots])
    noise = np.random.default_rng(4).normal(0, 0.02, points.shape)
    start = truth.homography / truth.homography[2, 2]
    found, away, (error, rms) = fit_mapping(points, truth(points) + noise, start, SIZE)
    assert np.abs(found(points) - truth(points)).max() < 0.03
    assert rms == pytest.approx(0.02 * 2**0.5, rel=0.25)
    assert np.sqrt(np.mean(away**2)) == pytest.approx(rms)
    assert np.abs(truth.inverse(truth(points)) - points).max() < 1e-6
    # The displacement of a corner, over its distance from the middle.
    corner = np.zeros(2)
    straight = projected(truth.homography, truth.inverse(corner))
    middle = np.array(SIZE) / 2
    undistorted = np.hypot(*(straight - middle)) / np.hypot(*middle)
    displaced = 100 * (1 + 0.012 * undistorted**2 - 0.005 * undistorted**4 - 1)
    assert 100 * (1 / undistorted - 1) == pytest.approx(displaced, abs=1e-9)
    assert truth.distortion == pytest.approx(0.7)
    fits = []
    for seed in range(40):
        noise = np.random.default_rng([5, seed]).normal(0, 0.02, points.shape)
        one, _, own = fit_mapping(points, truth(points) + noise, start, SIZE)
        fits.append([one.distortion, own[0]])
    values, errors = np.array(fits).T
    assert values.mean() == pytest.approx(0.7, abs=4 * values.std() / 40**0.5)
    assert errors.mean() == pytest.approx(values.std(), rel=0.35)
    assert error == pytest.approx(errors.mean(), rel=0.4)


def test_a_camera_with_fall_off_gain_noise_and_a_tone_curve(seen: Array, chart: Chart) -> None:
    """Colours mixed by a matrix, light that falls off to the corners, electrons, a power curve."""
    y, x = np.mgrid[: SIZE[1], : SIZE[0]] + 0.5
    square = ((x - SIZE[0] / 2) ** 2 + (y - SIZE[1] / 2) ** 2) / (np.hypot(*SIZE) / 2) ** 2
    matrix = np.array([[0.8, 0.2, 0], [0.1, 0.8, 0.1], [0, 0.2, 0.8]])
    light = seen @ matrix.T * (1 - 0.3 * square)[..., np.newaxis]
    rng = np.random.default_rng(8)
    share = 0.7 * light
    electrons = rng.poisson(1200 * share) + rng.normal(0, 6, share.shape)
    encoded = np.maximum(electrons / 1200, 0) ** (1 / 2.2)
    picture = Picture(np.rint(65535 * encoded.clip(0, 1)).astype(np.uint16), 16, "rgb", "shot")
    found = measure_chart(picture, chart)
    assert found.tone.kind == "measured"
    assert found.falloff.corners.value == pytest.approx(30, abs=1)
    model = found.main_noise
    assert model is not None
    assert model.channel == "green"
    assert model.full_well.low < 1200 < model.full_well.high
    # Light below 0 is clipped by the curve, so the darkest steps are left out.
    assert model.read_electrons.low < 6 < model.read_electrons.high
    assert found.colours is not None
    truth = np.array([patch.light for patch in chart.colours])
    # The formula itself is held by its published pairs elsewhere.
    one, other = (np.array([cielab(c) for c in rows]) for rows in (truth, truth @ matrix.T))
    differences = ciede2000(one, other)
    assert found.colours.mean.value == pytest.approx(differences.mean(), abs=0.1)
    assert found.colours.high.value == pytest.approx(np.percentile(differences, 95), abs=0.3)
    assert found.texture is not None
    low = (found.texture.frequency > 0.05) & (found.texture.frequency < 0.25)
    expected = transfer(found.texture.frequency, SIGMA)[low]
    high = found.texture.frequency > 0.3
    beyond = found.texture.by_power - transfer(found.texture.frequency, SIGMA)
    assert abs(beyond[high].mean()) < 0.05  # noise alone would raise it by 0.15
    assert np.abs(found.texture.by_power[low] - expected).max() < 0.03
    assert np.abs(found.texture.by_cross[low] - expected).max() < 0.03


@pytest.mark.long
def test_marks_are_found_in_200_pictures(record: dict[str, Any], chart: Chart) -> None:
    errors = [assert_found(record, chart, seed) for seed in range(200)]
    held = np.mean([abs(error) < 1.96 * sd for error, sd in errors])
    assert 0.88 <= held <= 1


def assert_found(record: dict[str, Any], chart: Chart, seed: int) -> tuple[float, float]:
    """Rotated to 10 degrees, oblique, 1 to 1/3 of the size, blurred to 3 px, noise to 5 %."""
    rng = np.random.default_rng([11, seed])
    scale = 2.1 * 3 ** -rng.uniform(0, 1)
    size = round(900 * scale * 1.15 + 40), round(600 * scale * 1.3 + 40)
    skew = rng.uniform(-0.04, 0.04, (4, 2)) * 600 * scale
    corners = placed(record, size, 0.93 * scale, rng.uniform(-10, 10), skew)
    homography, k1 = corners_to((900, 600), corners), rng.uniform(-0.02, 0.02)
    sigma = rng.uniform(0.3, 3)
    plane = shot(record, size, homography, k1=k1, sigma=sigma, fine=2)[..., 1]
    plane = plane + rng.normal(0, rng.uniform(0, 0.05), plane.shape)
    found = find(np.maximum(plane, 0) ** rng.choice([1, 1 / 2.2]), chart)
    truth = Mapping(homography, k1, 0.0, *size)
    points = np.array([[mark.x, mark.y] for mark in chart.marks])
    assert np.hypot(*(found.mapping(points) - truth(points)).T).max() < 0.5
    assert np.abs(found.mapping.inverse(truth(points)) - points).max() < 1.0 / min(1, scale)
    return found.mapping.distortion - 100 * k1, found.distortion_error


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda plane: plane[::-1, ::-1], "upside down"),
        (lambda plane: plane.T, "on its side|mirrored"),
        (lambda plane: plane[:, ::-1], "mirrored"),
        (lambda plane: plane[:, 500:], "no chart was found"),
        (lambda plane: ndimage.gaussian_filter(plane, 25), "no chart was found|dots"),
        (lambda plane: np.full_like(plane, 0.5), "no chart was found: 0 of its 5 marks"),
        (lambda plane: np.random.default_rng(1).random(plane.shape), "no chart was found"),
        (lambda plane: 1 - plane, "no chart was found|dots"),
    ],
)
def test_pictures_without_a_whole_chart_are_refused(
    seen: Array, chart: Chart, make: Any, words: str
) -> None:
    with pytest.raises(PictureError, match=words):
        measure_chart(as_picture(np.ascontiguousarray(make(seen[..., 1]))), chart)


def test_marks_without_dots_are_no_chart(
    seen: Array, chart: Chart, measured: ChartMeasurement
) -> None:
    bare = np.full(seen.shape[:2], np.median(seen))
    for x, y in measured.found.mapping(np.array([[m.x, m.y] for m in chart.marks])).astype(int):
        around = slice(max(0, y - 30), y + 30), slice(max(0, x - 30), x + 30)
        bare[around] = seen[..., 1][around]
    with pytest.raises(PictureError, match="5 rings look like marks, but no 4 of them"):
        measure_chart(as_picture(bare), chart)


def test_processing_is_said(seen: Array, chart: Chart, measured: ChartMeasurement) -> None:
    said = " ".join(measured.remarks)
    assert "sharpened" not in said
    assert "denoised" not in said
    blurred = ndimage.gaussian_filter(seen, (1, 1, 0))
    sharp = measure_chart(as_picture(seen + 0.9 * (seen - blurred)), chart)
    assert any("edges overshoot: the picture was sharpened" in text for text in sharp.remarks)
    smooth = measure_chart(as_picture(ndimage.median_filter(seen, (3, 3, 1))), chart)
    assert any("the picture was denoised, or" in text for text in smooth.remarks)
    wrong = replace(smooth, tone=replace(smooth.tone, contradicted=True))
    assert not any("denoised" in text for text in wrong.remarks)  # its light is not known


@pytest.mark.long
def test_what_can_be_measured_is_still_measured(
    seen: Array, chart: Chart, measured: ChartMeasurement
) -> None:
    covered = seen.copy()
    left = measured.found.mapping(np.array([[1, 1], [300, 8]]) * chart.cell / 1.0)[0]
    x, y = (int(v) for v in left)
    covered[: y + 10, : x + 10] = 0.5  # the mark at the top left
    found = measure_chart(as_picture(covered), chart)
    assert "the top left mark was not found" in found.notes[0]
    assert found.distortion.value == pytest.approx(100 * BARREL, abs=0.05)
    gray = measure_chart(as_picture(seen[..., 1]), chart)
    assert gray.colours is None
    assert not gray.shifts
    assert [note for note in gray.notes if note.startswith("no colours: the picture is gray")]
    with pytest.raises(PictureError, match="gray steps can be used"):
        measure_chart(as_picture(np.where(seen > 0.3, 1.0, 0.0)), chart)
