"""Calibrations find again what pictures were made with."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np
import pytest

import magnetite
from conftest import Run, arguments, size_of
from magnetite.core.calibrate.fitting import Estimate, Line
from magnetite.core.calibrate.photon_transfer import photon_transfer
from magnetite.core.calibrate.signal_levels import Points
from magnetite.core.calibrate.transfer_line import _judged
from magnetite.core.chain.notation import parse_step
from magnetite.core.edges.slanted_edge import measure_edge
from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture, as_picture
from magnetite.core.picture.region import Region
from magnetite.synthetic.catalogue import SCENES

BY_NAME = {scene.name: scene for scene in SCENES}
EDGE = Region(100, 90, 56, 80)
CAMERA = "sensor-noise full-well=9000e read=15e"


def still(name: str) -> Picture:
    """A scene at 16 bits, clear of full scale."""
    pixels = BY_NAME[name].picture(640, 448, 0).pixels()
    return as_picture(np.rint(pixels * 0.9 * 65535).astype(np.uint16))


def frames(scene: Picture, step: str, seeds: range) -> list[Picture]:
    return [magnetite.degrade(scene, step, seed=seed).picture for seed in seeds]


def flats(step: str, levels: list[float], seeds: range = range(2)) -> list[Picture]:
    made = []
    for level in levels:
        flat = as_picture(np.full((448, 640), round(level * 65535), np.uint16))
        made += frames(flat, step, seeds)
    return made


@pytest.mark.parametrize("name", ["banded-ironstone", "veined-breccia", "chart-plate"])
def test_two_frames_of_a_still_scene_give_gain_and_read_noise(name: str) -> None:
    result = photon_transfer(frames(still(name), CAMERA, range(2)))
    assert result.full_well.value == pytest.approx(9000, rel=0.03)
    assert result.read.value == pytest.approx(15, rel=0.03)
    assert result.gain.value == pytest.approx(65535 / 9000, rel=0.03)
    assert 0.7 < result.line.chi_square < 1.4
    assert (result.row, result.prnu) == (None, None)
    again = parse_step(result.step, "degradation")
    assert again.method.name == "sensor-noise"


@pytest.mark.long
def test_the_intervals_hold_the_truth_as_often_as_they_say() -> None:
    scene = still("banded-ironstone")
    scene = Picture(scene.samples[::2, ::2], 16, scene.colour)
    held = np.zeros(2, int)
    for seed in range(0, 40, 2):
        result = photon_transfer(frames(scene, CAMERA, range(seed, seed + 2)))
        pairs = ((result.full_well, 9000), (result.read, 15))
        held += [estimate.low < truth < estimate.high for estimate, truth in pairs]
    # Of 20 intervals of 95 %, fewer than 15 hold the truth once in 3000 times.
    assert (held >= 15).all(), held


def test_flat_fields_tell_the_fixed_pattern_and_rows() -> None:
    step = f"{CAMERA} prnu=1% dsnu=4e row=6e"
    result = photon_transfer(flats(step, [0.03, 0.1, 0.25, 0.5, 0.75, 0.9]))
    assert result.flat_fields == 6
    for estimate, truth in (
        (result.full_well, 9000), (result.read, 15), (result.row, 6), (result.prnu, 0.01),
        (result.dsnu, 4),
    ):  # fmt: skip
        width = (estimate.high - estimate.low) / 2 / 1.96
        assert abs(estimate.value - truth) < 4 * width + 0.002 * truth
    again = arguments(parse_step(result.step, "degradation"))
    assert again["prnu"] == pytest.approx(0.01, rel=0.03)
    assert again["row"] == pytest.approx(6, rel=0.1)


@pytest.mark.long
def test_more_frames_narrow_the_intervals() -> None:
    two, eight = (photon_transfer(flats(CAMERA, [0.02, 0.6], range(n)), black=0) for n in (2, 8))
    width = [r.read.high - r.read.low for r in (two, eight)]
    assert width[1] < 0.6 * width[0]
    assert eight.groups == (8, 8)
    assert eight.read.value == pytest.approx(15, rel=0.03)


def test_frames_that_cannot_tell_are_refused() -> None:
    gray = [as_picture(np.full((40, 50), v, np.uint8)) for v in (50, 52, 200)]
    with pytest.raises(PictureError, match="from two or more frames"):
        photon_transfer(gray[:1])
    with pytest.raises(PictureError, match="no other frame shows the same"):
        photon_transfer(gray)
    with pytest.raises(PictureError, match="span too little signal"):
        photon_transfer(flats(CAMERA, [0.5]))
    with pytest.raises(PictureError, match="the frames differ"):
        photon_transfer([gray[0], as_picture(np.zeros((40, 50), np.uint16))])
    with pytest.raises(PictureError, match="does not grow with the signal"):
        photon_transfer(
            frames(
                still("banded-ironstone"), "contrast factor=0.8 + gaussian-noise sd=1%", range(2)
            )
        )


@pytest.mark.parametrize(
    ("levels", "chi_square", "factor", "remark"),
    [
        (2, 5.0, 1.0, "two levels"),
        (12, 1.3, 1.0, ""),
        (2002, 1.3, math.sqrt(1.3), ""),  # no accident, but near
        (2002, 0.8, 1.0, ""),
        (12, 9.0, math.nan, "does not follow"),
        (2002, 0.4, math.nan, "does not follow"),
    ],
)
def test_intervals_widen_where_the_variance_is_no_line(
    levels: int, chi_square: float, factor: float, remark: str
) -> None:
    line = Line(Estimate.of(0.2, 0.01), Estimate.of(3.0, 0.5), -0.002, chi_square)
    each = np.ones(levels)
    judged, remarks = _judged(line, Points(each, each, each, each == 1))
    for after, before in ((judged.slope, line.slope), (judged.intercept, line.intercept)):
        assert after.value == before.value
        assert after.error == pytest.approx(factor * before.error, nan_ok=True)
    assert [remark in text for text in remarks] == [True] * bool(remark)


@pytest.mark.parametrize("sigma", [0.8, 3.5])
def test_the_blur_of_an_edge_is_found_again(sigma: float) -> None:
    chart = BY_NAME["chart-plate"].picture(640, 448, 0)
    soft = magnetite.degrade(chart, f"gaussian-blur sigma={sigma}").picture
    for picture in (soft, Picture(np.ascontiguousarray(soft.samples.swapaxes(0, 1)), 8, "rgb")):
        edge = measure_edge(picture)
        best = parse_step(edge.blurs[0].step, "degradation")
        assert best.method.name == "gaussian-blur"
        assert arguments(best, picture)["sigma"] == pytest.approx(sigma, rel=0.02)
        assert edge.angle == pytest.approx(5, abs=0.1)
    # Closed form: the Gaussian's transfer times that of a px.
    f = np.linspace(0, 1, 100_001)
    transfer = np.exp(-2 * (np.pi * sigma * f) ** 2) * np.sinc(f)
    assert edge.mtf50 == pytest.approx(f[np.argmax(transfer < 0.5)], rel=0.02)
    assert magnetite.gauge(soft, "mtf50")["mtf50"] == pytest.approx(edge.mtf50, rel=0.01)


def test_defocus_is_told_from_gaussian_blur_and_noise_does_no_harm() -> None:
    chart = BY_NAME["chart-plate"].picture(640, 448, 0)
    edge = measure_edge(magnetite.degrade(chart, "defocus radius=3").picture)
    assert edge.blurs[0].step.startswith("defocus")
    assert float(edge.blurs[0].step.split("=")[1][:-2]) == pytest.approx(3, rel=0.03)
    noisy = magnetite.degrade(chart, "gaussian-blur sigma=1.5 + gaussian-noise sd=3%").picture
    edge = measure_edge(noisy)
    assert float(edge.blurs[0].step.split("=")[1][:-2]) == pytest.approx(1.5, rel=0.04)
    assert edge.noise == pytest.approx(0.03 * math.sqrt(0.299**2 + 0.587**2 + 0.114**2), rel=0.1)


def test_a_sharpened_edge_is_said_to_be_one_and_gets_no_blur(run: Run, tmp_path: Path) -> None:
    """A plain blur passes; sharpening, and a curve that no blur gives, are told."""
    chart = BY_NAME["chart-plate"].picture(640, 448, 0)
    for noise in ("", " + gaussian-noise sd=1%"):
        soft = magnetite.degrade(chart, f"gaussian-blur sigma=1.5px{noise}").picture
        assert measure_edge(soft, EDGE).overshoot == 0
        assert measure_edge(soft, EDGE).blurs
        sharp = magnetite.restore(soft, "sharpen amount=2 sigma=1.5px").picture
        edge = measure_edge(sharp, EDGE)
        assert edge.overshoot > 0.06
        assert edge.blurs == ()
        # The overshoot by hand: largest sample beside the edge over the height of the step.
        if not noise:
            part = EDGE.of(sharp).mean(axis=2)
            plain = EDGE.of(soft).mean(axis=2)
            height = plain.max() - plain.min()
            beyond = max(part.max() - plain.max(), plain.min() - part.min()) / height
            assert edge.overshoot == pytest.approx(beyond, abs=0.05)
    magnetite.write(sharp, tmp_path / "s.png")
    done = run("calibrate", "blur", "s.png", "--region", "100,90,56x80")
    assert "the edge was sharpened: it overshoots by" in done.stderr
    assert "blur sigma=" not in done.stdout
    assert "no blur is needed" not in done.stderr
    wide = magnetite.degrade(chart, "motion-blur length=14px").picture
    assert measure_edge(wide, EDGE).overshoot == 0
    glare = magnetite.degrade(chart, "gaussian-blur sigma=5px").picture.pixels()
    odd = measure_edge(as_picture(0.5 * chart.pixels() + 0.5 * glare), EDGE)
    assert odd.blurs == ()
    assert "no blur is offered: the nearest is" in odd.remarks[0]


def test_regions_without_an_edge_are_refused() -> None:
    chart = BY_NAME["chart-plate"].picture(640, 448, 0)
    with pytest.raises(PictureError, match="holds no edge"):
        measure_edge(chart, Region(250, 10, 40, 40))
    with pytest.raises(PictureError, match="smaller than 16x16"):
        measure_edge(chart, Region(0, 0, 10, 40))
    with pytest.raises(PictureError, match="leaves chart-plate"):
        measure_edge(chart, Region(600, 0, 60, 40))
    with pytest.raises(PictureError, match="no straight edge 2 to 14 degrees"):
        measure_edge(BY_NAME["speckled-granite"].picture(320, 224, 0))


def test_the_commands_print_a_step_to_paste(run: Run, tmp_path: object) -> None:
    run("scenes", "trays")
    chart = "trays/chart-plate.png"
    for seed in "12":
        run("degrade", chart, f"frame{seed}.png", *CAMERA.split(), "--seed", seed)
    done = run("calibrate", "noise", "frame1.png", "frame2.png")
    step = done.stdout.splitlines()[-1]
    assert step.startswith("sensor-noise full-well=")
    assert "needs flat fields" in done.stderr
    assert size_of(tmp_path / "photon-transfer.png") == (1280, 620)
    run("degrade", chart, "again.png", *step.split())
    certificate = json.loads((tmp_path / "again.png.cert.json").read_text())
    assert certificate["verdict"] == "as asked"

    run("degrade", chart, "soft.png", "gaussian-blur", "sigma=2")
    done = run("calibrate", "blur", "soft.png", "--region", "100,90,56x80", "--out", "e.svg")
    assert done.stdout.splitlines()[-1].startswith("gaussian-blur sigma=")
    done = run("calibrate", "blur", chart)
    assert "no blur is needed" in done.stderr
    assert size_of(tmp_path / "edge.png") == (1280, 560)


def test_colours_with_gains_of_their_own_are_measured_apart(run: Run, tmp_path: Path) -> None:
    """A second computation: electrons of each colour, drawn and amplified here."""
    rng = np.random.default_rng(1)
    wells = {"red": 3000, "green": 12000, "blue": 7000}
    colour = np.array([["green", "blue"], ["red", "green"]])  # gbrg
    well = np.tile(np.vectorize(wells.get)(colour), (120, 160)).astype(float)
    for level in (0.06, 0.25, 0.6, 0.9):
        for number in range(3):
            electrons = rng.poisson(level * well) + rng.normal(0, 5, well.shape)
            samples = np.rint(electrons / well * 65335 + 200).astype(np.uint16)
            name = f"flat-{level}-{number}.png"
            magnetite.write(Picture(samples, 16, "gray", name), tmp_path / name)
    flats = sorted(path.name for path in tmp_path.glob("flat-*.png"))
    words = ["calibrate", "noise", *flats, "--black=200", "--mosaic"]
    done = run(*words, "gbrg", "--format", "json")
    record = json.loads(done.stdout)
    found = {(row["figure"], row["unit"]): row for row in record["rows"]}
    for name, full in wells.items():
        for figure, unit, truth in (
            (f"full well (at full scale), {name}", "e", full),
            (f"gain, {name}", "dn/e", 65335 / full),
            (f"read noise, {name}", "e", 5),
        ):
            row = found[figure, unit]
            assert row["value"] == pytest.approx(truth, abs=1.5 * (row["high"] - row["low"])), (
                figure
            )
            assert row["value"] == pytest.approx(truth, rel=0.25 if "read" in figure else 0.03)
    assert "the gains of the colours differ" in done.stderr
    step = parse_step(record["step"], "degradation")
    settings = dict(step.settings)
    assert settings.pop("pattern") == "gbrg"
    fitted = {key: float(value.number) for key, value in settings.items()}
    assert fitted["full-well"] == pytest.approx(wells["green"], rel=0.03)
    assert fitted["full-well-red"] == pytest.approx(wells["red"], rel=0.03)
    assert fitted["full-well-blue"] == pytest.approx(wells["blue"], rel=0.03)
    assert size_of(tmp_path / "photon-transfer.png") == (1280, 620)
    refused = run(*words, "rgbg", status=2)
    assert "pattern 'rgbg': it is one of rggb, bggr, grbg, gbrg" in refused.stderr


def test_flat_fields_of_a_mosaic_have_a_level_for_each_colour(run: Run, tmp_path: Path) -> None:
    """Colours differ in brightness, and the pattern is that of the samples, not of the colours."""
    rng = np.random.default_rng(0)
    pattern = 1 + 0.01 * rng.normal(size=(240, 320))
    dark_signal = 6 * rng.normal(size=(240, 320))
    colours = np.tile(np.array([[0.5, 1.0], [1.0, 0.6]]), (120, 160))
    for level in (0, 1000, 3000, 9000):
        for number in range(3):
            electrons = rng.poisson(level * colours * pattern) + dark_signal
            electrons = electrons + rng.normal(0, 5, pattern.shape) + rng.normal(0, 4, (240, 1))
            samples = np.rint(4 * electrons + 256).astype(np.uint16)
            name = f"{'dark' if level == 0 else 'flat'}-{level}-{number}.png"
            magnetite.write(Picture(samples, 16, "gray", name), tmp_path / name)
    flats = sorted(path.name for path in tmp_path.glob("flat-*.png"))
    darks = [f"--dark={path.name}" for path in sorted(tmp_path.glob("dark-*.png"))]
    words = ["calibrate", "noise", *flats, *darks, "--format", "json"]
    found = {
        (row["figure"], row["unit"]): row
        for row in json.loads(run(*words, "--mosaic", "rggb").stdout)["rows"]
    }
    for figure, unit, truth in (
        ("gain", "dn/e", 4), ("read noise", "e", 5), ("row noise", "e", 4), ("PRNU", "%", 1),
        ("DSNU", "e", 6),
    ):  # fmt: skip
        row = found[figure, unit]
        assert row["value"] == pytest.approx(truth, rel=0.08)
        assert row["high"] - row["low"] < 0.3 * truth
    assert "PRNU" not in run(*words).stdout
    colour = magnetite.scenes((96, 72))["chart-plate"]
    with pytest.raises(PictureError, match="and a mosaic is gray"):
        magnetite.photon_transfer([colour, colour], pattern="rggb")
