"""`magnetite curve`: its points, what it keeps, what it draws."""

from __future__ import annotations

import contextlib
import csv
import json
import re
import sqlite3
from pathlib import Path

import numpy as np
import pytest
from scipy import stats

import magnetite
from conftest import Run, size_of, texture
from magnetite.cli.curve import _mean_words
from magnetite.core.curves.comparison import bd_quality
from magnetite.core.curves.points import curve_codecs, sweep_steps
from magnetite.core.curves.study import Comparison
from magnetite.core.operations.rate import compress_to_rate
from magnetite.core.picture import as_picture
from magnetite.synthetic.catalogue import SCENES
from magnetite.views.curves import curves_figure


def test_points_kept_in_the_folder_are_not_computed_again(tmp_path: Path, run: Run) -> None:
    gray = as_picture((texture(64, 80) * 255).astype(np.uint8))
    magnetite.write(gray, tmp_path / "g.png")
    command = ["curve", "g.png", "--metric", "psnr", "--out", "c", "--format", "csv",
               "--workers", "1"]  # fmt: skip
    run(*command, "--codec", "dct step=4dn,16dn")
    ledger = tmp_path / "c" / "ledger.sqlite"
    with contextlib.closing(sqlite3.connect(ledger)) as base, base:
        base.execute(
            "UPDATE scores SET value = 77.25 "
            "WHERE cell IN (SELECT key FROM cells WHERE treatment = 'dct step=16dn')"
        )
    done = run(*command, "--codec", "dct step=4dn,16dn", "--codec", "wavelet step=4dn,9dn")
    assert "2 of 4 points taken from c" in done.stderr
    scores = [row["psnr"] for row in csv.DictReader(done.stdout.splitlines())]
    assert scores[0] == "77.25"
    assert len((tmp_path / "c" / "scores.csv").read_text().splitlines()) == 1 + 4
    magnetite.write(as_picture(gray.samples[::-1]), tmp_path / "g.png")  # another picture
    done = run(*command, "--codec", "dct step=4dn,16dn")
    assert "taken" not in done.stderr
    assert "77.25" not in done.stdout
    assert size_of(tmp_path / "c" / "curve.png")[0] == size_of(tmp_path / "c" / "crops.png")[0]


def test_files_of_an_earlier_call_are_said(gray: Path, run: Run) -> None:
    """Rates of another call beside new points; noise and maps of another picture of that name."""
    both = ("--codec", "dct step=8dn,16dn,32dn,64dn", "--codec", "wavelet step=8dn,16dn,32dn,64dn")
    words = ("curve", gray, "--workers", "1", "--metrics", "psnr", "--out", "c")
    assert "earlier" not in run(*words, *both, "--at", "psnr=30").stderr
    done = run(*words, "--codec", "dct step=8dn,64dn")
    said = "note: left by an earlier call: "
    assert f"{said}c/comparison.csv, c/rates.csv\n" in done.stderr
    assert {"comparison.csv", "rates.csv"} < {path.name for path in Path("c").iterdir()}
    for folder, command, name in (
        ("gauged", ("gauge", gray, "--curves", "gauged"), "g-mtf.csv"),
        ("maps", ("score", gray, gray, "--maps", "maps"), "g-delta-e.tif"),
    ):
        assert said not in run(*command).stderr
        (Path(folder) / name).write_text("of another picture")
        assert f"{said}{folder}/{name}\n" in run(*command).stderr


def test_settings_besides_the_quality_have_curves_of_their_own(gray: Path, run: Run) -> None:
    """The same table as of codecs that are named one by one."""
    blocks = [f"dct step=4dn,8dn,16dn,32dn block={side} smooth=off" for side in (4, 16)]
    both = "dct step=4dn,8dn,16dn,32dn block=4,16 smooth=off"
    words = ["curve", gray, "--workers", "1", "--format", "json", "--metrics", "psnr"]
    (found, wanted) = (
        json.loads(run(*words, *(w for one in codecs for w in ("--codec", one))).stdout)
        for codecs in ([both], blocks)
    )
    assert found == wanted
    (line,) = found["comparisons"]
    assert [line["anchor"], line["codec"]] == blocks
    points = [
        [(row["bpp"], row["scores"]["psnr"]) for row in found["rows"] if side in row["codec"]]
        for side in ("block=4 ", "block=16 ")
    ]
    assert line["bd_quality"] == pytest.approx(bd_quality(*points))
    picture = magnetite.read(gray)
    curves = magnetite.curve(picture, both, "psnr")
    assert curves.codecs == tuple(blocks)
    lines = {line.get_label() for line in curves_figure(curves).axes[0].lines}
    assert {"dct block=4", "dct block=16"} <= lines
    automatic = magnetite.curve(picture, "dct block=4,16", "psnr").codecs
    assert automatic == ("dct block=4", "dct block=16")
    by_energy = [one.name for one in curve_codecs(["svd energy=90%,99% block=8,16"])]
    assert by_energy == [f"svd energy=90%,99% block={side}" for side in (8, 16)]
    twice = ["--codec", both, "--codec", blocks[1]]
    assert f"the codec '{blocks[1]}' is named twice" in run(*words, *twice, status=2).stderr


def test_a_codec_that_is_missing_among_the_crops_is_named(
    gray: Path, run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(
        "magnetite.core.curves.study.at_rate",
        lambda picture, step, rate: None if step.name == "dct" else compress_to_rate(
            picture, "wavelet", rate),
    )  # fmt: skip
    done = run("curve", gray, "--codec", "wavelet step=4dn,40dn", "--codec", "dct step=4dn,40dn",
               "--out", "c", "--metrics", "psnr", "--workers", "1")  # fmt: skip
    (rate,) = re.findall(
        "dct step=4dn,40dn has no file of about (.+) bpp: it is not among", done.stderr
    )
    table = (gray.parent / "c/scores.csv").read_text().splitlines()
    rates = [float(row["bpp"]) for row in csv.DictReader(table)]
    low, high = max(min(rates[:2]), min(rates[2:])), min(max(rates[:2]), max(rates[2:]))
    assert float(rate) == pytest.approx((low * high) ** 0.5, rel=0.01)


def test_points_without_a_sweep_are_even_in_rate() -> None:
    picture = SCENES[0].picture(240, 176, 0).luma()
    for codec in curve_codecs(["dct", "wavelet", "jpeg"]):
        steps = sweep_steps(codec, picture)
        rates = np.log(sorted(magnetite.compress(picture, step).bpp for step in steps))
        gaps = np.diff(rates)
        assert len(gaps) >= 6
        assert gaps.max() < 1.6 * np.ptp(rates) / len(gaps)


def test_where_the_bytes_of_bands_go() -> None:
    picture = SCENES[0].picture(320, 224, 0)
    made = magnetite.compress(picture, "wavelet step=6dn")
    assert sum(made.parts.values()) == len(made.data)
    assert {name.split()[0] for name in made.parts} == {"header", "lengths", "luma", "cb", "cr"}
    luma = [made.parts[f"luma level {level}"] for level in range(6, 0, -1)]
    assert luma == sorted(luma)


def test_codecs_of_one_rate_or_without_loss_are_drawn(tmp_path: Path, run: Run) -> None:
    magnetite.write(as_picture((texture(40, 50) * 255).astype(np.uint8)), tmp_path / "g.png")
    codecs = ["--codec", "dct step=8dn", "--codec", "predictive", "--codec", "png level=1,9"]
    run("curve", "g.png", *codecs, "--out", "out", "--workers", "1")
    assert size_of(tmp_path / "out" / "curve.png") == (1280, 640)


def test_automatic_points_reach_what_is_asked_for_on_every_picture(
    run: Run, tmp_path: Path
) -> None:
    """Means are geometric, over the pictures on which all reach the score, with an interval."""
    for number, name in enumerate(("a", "b", "c")):
        picture = SCENES[(4, 1, 0)[number]].picture(96, 72, number)
        magnetite.write(magnetite.convert(picture, "gray + depth bits=8"), tmp_path / f"{name}.png")
    words = ("curve", "a.png", "b.png", "c.png", "--codec", "dct", "--codec", "jpeg",
             "--at", "ssim=0.995", "--metrics", "psnr", "--format", "json")  # fmt: skip
    content = json.loads(run(*words).stdout)
    rates = {(r["reference"], r["codec"]): r for r in content["rates"]}
    assert all(row["bpp"] is not None for row in rates.values())
    own = [rates[f"{n}.png", "jpeg"]["bpp"] / rates[f"{n}.png", "dct"]["bpp"] for n in "abc"]
    mean = rates["mean", "jpeg"]
    assert mean["against_first"] == pytest.approx(np.exp(np.mean(np.log(own))) - 1)
    low, high = stats.t.interval(0.95, 2, np.mean(np.log(own)), stats.sem(np.log(own)))
    assert (mean["against_low"], mean["against_high"]) == pytest.approx(
        (np.expm1(low), np.expm1(high))
    )
    assert mean["pictures"] == 3
    gaps = [np.log1p(c["bd_rate"]) for c in content["comparisons"]
            if c["reference"] != "mean" and c["metric"] == "psnr"]  # fmt: skip
    (over,) = (c for c in content["comparisons"]
               if c["reference"] == "mean" and c["metric"] == "psnr")  # fmt: skip
    assert over["bd_rate"] == pytest.approx(np.expm1(np.mean(gaps)))


def test_pictures_that_share_no_rate_end_in_a_figure_and_a_note(run: Run, tmp_path: Path) -> None:
    for name, picture in (("a", SCENES[4]), ("b", SCENES[1])):
        magnetite.write(picture.picture(96, 72, 0), tmp_path / f"{name}.png")
    words = ("curve", "a.png", "b.png", "--codec", "dct step=60%,80%", "--codec",
             "predictive bound=0,1", "--out", "c")  # fmt: skip
    for _ in range(2):
        done = run(*words)
        assert "the codecs share no rate" in done.stderr
        assert (tmp_path / "c" / "curve.png").stat().st_size > 1000
    double = run("curve", "a.png", "a.png", "--codec", "dct step=8%,16%", status=2)
    assert "named twice" in double.stderr
    (tmp_path / "c.png").write_bytes((tmp_path / "a.png").read_bytes())
    same = run("curve", "a.png", "c.png", "--codec", "dct step=8%,16%,30%,50%")
    assert "c.png holds the same samples as a.png: it counts once" in same.stderr


def test_means_over_pictures_have_intervals_and_numbers_of_their_own() -> None:
    row = Comparison("mean", "psnr", "a", "b", -0.2, 0.5, 0.8, -0.3, -0.1, 0.4, 0.6, 3, 5)
    rate, quality = _mean_words(row).split("; ")
    numbers = [[float(n) for n in re.findall(r"-?\d+(?:\.\d+)?", part)] for part in (rate, quality)]
    assert numbers == [[-20, 95, -30, -10, 3], [0.5, 95, 0.4, 0.6, 5]]
    alone = row._replace(bd_rate=None, bd_quality_low=None)
    assert _mean_words(alone).startswith("no picture has a BD-rate for all codecs; BD-quality 0.5")
    assert "one picture has no interval" in _mean_words(alone)
