"""`magnetite curve`: its points, what it keeps, what it draws."""

from __future__ import annotations

import contextlib
import csv
import sqlite3
from pathlib import Path

import numpy as np

import magnetite
from conftest import Run, size_of, texture
from magnetite.core.curves.points import sweep_steps
from magnetite.core.picture import as_picture
from magnetite.scenes.catalogue import SCENES


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


def test_points_without_a_sweep_are_even_in_rate() -> None:
    picture = SCENES[0].picture(640, 448, 0).luma()
    for codec in ("dct", "wavelet", "jpeg"):
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
