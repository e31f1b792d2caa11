"""`magnetite chart` and `magnetite calibrate chart`, on files."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

import magnetite
from conftest import Run
from magnetite.core.picture import Picture


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A chart, and a picture of it by a camera: blur 0.8 px, 6000 e, read noise 5 e."""
    from magnetite.cli.main import execute

    folder = tmp_path_factory.mktemp("chart")
    assert execute(["chart", str(folder / "chart.png"), "--size", "900x600", "--seed", "4"]) == 0
    camera = "to-linear standard=srgb + gaussian-blur sigma=0.8px + white-balance red=0.8 "
    camera += "green=0.8 blue=0.8 + sensor-noise full-well=6000e read=5e + to-encoded standard=srgb"
    words = ["degrade", str(folder / "chart.png"), str(folder / "shot.png"), *camera.split()]
    assert execute([*words, "--seed", "2"]) == 0
    return folder


@pytest.mark.long
def test_a_camera_is_found_again(run: Run, folder: Path, tmp_path: Path) -> None:
    shot, chart = folder / "shot.png", folder / "chart.json"
    options = ["--chart", chart, "--format", "json"]
    done = run("calibrate", "chart", shot, *options, "--camera", "Store Camera.toml", status=2)
    assert "without blanks" in done.stderr
    done = run("calibrate", "chart", shot, *options, "--camera", tmp_path / "store.toml")
    found = json.loads(done.stdout)
    assert found["tone"]["kind"] == "measured"
    values = {(row["figure"], row["unit"]): row for row in found["rows"]}
    for figure, truth in (("full well, green", 6000), ("read noise, green", 5)):
        row = values[figure, "e"]
        # Within 3 standard errors, of which the interval spans 1.96 to each side.
        assert abs(row["value"] - truth) < 3 / 3.92 * (row["high"] - row["low"])
    spans = [(row["low"], row["value"], row["high"]) for row in found["rows"]]
    assert all(low <= value <= high for low, value, high in spans)
    # A Gaussian of 0.8 px and the aperture of a px: its MTF falls to half at 0.2212 c/px.
    decibels = found["noise"][1]["dynamic_range"][0]
    assert values["dynamic range", "dB"]["value"] == pytest.approx(decibels)
    assert "prnu" not in found["chain"]  # none was there, and none is shown
    halves = [edge["mtf50"] for edge in found["edges"]]
    assert np.median(halves) == pytest.approx(0.2212, rel=0.02)
    assert (tmp_path / "camera.png").stat().st_size > 20_000


@pytest.mark.long
def test_the_camera_found_gives_the_same(run: Run, folder: Path, tmp_path: Path) -> None:
    options = ["--chart", folder / "chart.json", "--format", "json"]
    camera = ["--camera", tmp_path / "store.toml"]
    found = json.loads(run("calibrate", "chart", folder / "shot.png", *options, *camera).stdout)
    run("--commands", "store.toml", "degrade", folder / "chart.png", "again.png", "store")
    second = json.loads(run("calibrate", "chart", "again.png", *options).stdout)
    noises = [{s["light"]: s["noise"] for s in one["steps"]} for one in (found, second)]
    common = [light for light in noises[0] if light in noises[1]]
    assert len(common) >= 12
    ratio = [noises[1][light] / noises[0][light] for light in common]
    assert np.mean(ratio) == pytest.approx(1, abs=0.03)
    halves = [np.median([edge["mtf50"] for edge in one["edges"]]) for one in (found, second)]
    assert halves[1] == pytest.approx(halves[0], rel=0.02)


def test_a_chart_to_print(run: Run, tmp_path: Path) -> None:
    run("chart", "page.svg", "--size", "900x600")
    assert (tmp_path / "page.svg").read_bytes().startswith(b"<?xml")
    assert json.loads((tmp_path / "page.json").read_text())["width"] == 900


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["chart", "c.png", "--size", "300x200"], "too small: it takes 900x600"),
        (["chart", "c.png", "--size", "big"], "write WIDTHxHEIGHT"),
        (["chart", "c.png", "--size", "90000x90000"], "larger than 100 million"),
        (["chart", "c.jpg"], "written as .png"),
        (["chart", "none/c.png"], "none"),
        (["calibrate", "chart", "SHOT", "--chart", "none.json"], "none.json"),
        (["calibrate", "chart", "SHOT", "--chart", "SHOT"], "is not JSON"),
        (["calibrate", "chart", "SHOT", "--chart", "other.json"], "other.json: not the record"),
        (["calibrate", "chart", "plain.png", "--chart", "CHART"], "no chart was found"),
        (["calibrate", "chart", "SHOT", "--chart", "CHART", "--tone", "log"], "one of measured"),
        (["calibrate", "chart", "SHOT", "--chart", "CHART", "--out", "SHOT"], "would replace"),
        (["calibrate", "chart", "SHOT", "--chart", "CHART", "--camera", "c.txt"], "a .toml file"),
    ],
)
def test_bad_input(run: Run, folder: Path, tmp_path: Path, words: list[str], said: str) -> None:
    (tmp_path / "other.json").write_text("{}")
    plain = Picture(np.full((400, 600, 3), 128, np.uint8), 8, "rgb")
    magnetite.write(plain, tmp_path / "plain.png")
    names = {"SHOT": str(folder / "shot.png"), "CHART": str(folder / "chart.json")}
    done = run(*(names.get(word, word) for word in words), status=2)
    assert said in done.stderr
    assert len(done.stderr.strip().splitlines()) == 1
    assert not (tmp_path / "camera.png").exists()
    assert not (tmp_path / "c.json").exists()
