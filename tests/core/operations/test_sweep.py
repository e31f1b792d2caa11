"""Sweeps: every picture is the one that its own command makes."""

from __future__ import annotations

import csv
import io
import itertools
from pathlib import Path

import numpy as np
import pytest

import magnetite
from conftest import Run, sample_pictures, size_of, texture
from magnetite.core.errors import InputError
from magnetite.core.picture import as_picture
from magnetite.files.names import named

PICTURE = as_picture((255 * texture(48, 72, 3)).round().astype(np.uint8))
NOISY = magnetite.degrade(PICTURE, "gaussian-noise sd=10dn", seed=4).picture


def test_pictures_are_those_of_the_single_verbs() -> None:
    coded = magnetite.sweep(PICTURE, "dct step=4dn,8dn,40dn block=4,8")
    assert [axis.name for axis in coded.axes] == ["step", "block"]
    for cell in coded.cells:
        alone = magnetite.compress(PICTURE, cell.chain)
        assert cell.picture.same_samples(alone.picture)
        assert (cell.bytes, cell.bpp) == (len(alone.data), alone.bpp)
        assert cell.scores["psnr"] == magnetite.score(PICTURE, alone.picture, "psnr")["psnr"]
    noised = magnetite.sweep(PICTURE, "gaussian-noise sd=2%,9%", seed=3)
    for cell in noised.cells:
        alone = magnetite.degrade(PICTURE, cell.chain, seed=3)
        assert cell.picture.same_samples(alone.picture)
    restored = magnetite.sweep(NOISY, "median size=3..7/2", reference=PICTURE)
    for cell in restored.cells:
        alone = magnetite.restore(NOISY, cell.chain).picture
        assert cell.picture.same_samples(alone)
        assert cell.scores["ssim"] == magnetite.score(PICTURE, alone, "ssim")["ssim"]


def test_a_degradation_may_go_before_what_is_swept() -> None:
    made = magnetite.sweep(PICTURE, "gaussian-noise sd=4% + median size=3,5 + dct step=9dn")
    noisy = magnetite.degrade(PICTURE, "gaussian-noise sd=4%").picture
    for cell, size in zip(made.cells, (3, 5), strict=True):
        smooth = magnetite.restore(noisy, f"median size={size}").picture
        assert cell.picture.same_samples(magnetite.compress(smooth, "dct step=9dn").picture)


def test_pictures_of_each_degradation_are_treated_on_their_own() -> None:
    chain = "gaussian-noise sd={} + median size={} + dct step=9dn"
    made = magnetite.sweep(PICTURE, chain.format("2%,9%", "5,7"), seed=3)
    assert len(made.cells) == 4
    for cell, (sd, size) in zip(made.cells, itertools.product(("2%", "9%"), (5, 7)), strict=True):
        worn = magnetite.degrade(PICTURE, f"gaussian-noise sd={sd}", seed=3).picture
        smooth = magnetite.restore(worn, f"median size={size}").picture
        coded = magnetite.compress(smooth, "dct step=9dn")
        assert cell.chain == chain.format(sd, size)
        assert cell.picture.same_samples(coded.picture)
        assert cell.bytes == len(coded.data)


def test_the_sd_of_the_noise_may_be_that_of_its_certificate() -> None:
    made = magnetite.sweep(PICTURE, "gaussian-noise sd=4% + nl-means sd=3dn,known search=5")
    noisy = magnetite.degrade(PICTURE, "gaussian-noise sd=4%")
    sd = noisy.certificate.noise_sd
    alone = magnetite.restore(noisy.picture, f"nl-means sd={sd} search=5").picture
    assert made.axes[0].values == ("3dn", "known")
    assert made.cells[1].picture.same_samples(alone)


@pytest.mark.parametrize(
    ("chain", "sd"),
    [
        ("gaussian-blur sigma=1 + gaussian-noise sd=4%", 0.04),
        ("banding amplitude=2% period=9 + uniform-noise sd=3%", 0.03),
        ("gaussian-noise sd=4% + gaussian-blur sigma=1", None),
        ("poisson-noise photons=100 + gaussian-noise sd=4%", None),
        ("gaussian-noise sd=3% + gaussian-noise sd=4%", None),
        ("gaussian-noise sd=3% + mosaic pattern=rggb", 0.03),
        ("dct step=4%", None),
    ],
)
def test_a_known_sd_is_that_of_the_noise_in_the_result(chain: str, sd: float | None) -> None:
    """Of a noise that a later step has changed, or of one of two, the sd is another one."""
    colours = as_picture(np.full((128, 160, 3), 128, np.uint8))
    known = magnetite.degrade(colours, chain).certificate.noise_sd
    assert (known is None) == (sd is None)
    assert sd is None or float(known.number) / 255 == pytest.approx(sd, rel=0.03)
    if sd is None:
        with pytest.raises(InputError, match="does not end with noise of a stated sd"):
            magnetite.sweep(colours, f"{chain} + wiener sd=known,5dn")


@pytest.mark.parametrize(
    ("words", "figures"),
    [
        ("p.png dct step=4dn,8dn,16dn --curve --pictures made", 3),
        ("n.png nl-means sd=5dn,10dn search=5,7,9 --reference p.png --metrics ssim,mae --curve", 6),
        ("p.png salt-pepper density=2%,20% --crop 3,4,20x10", 2),
        ("p.png gaussian-noise sd=2%", 1),
    ],
)
def test_the_figure_and_its_figures(run: Run, tmp_path: Path, words: str, figures: int) -> None:
    magnetite.write(PICTURE, tmp_path / "p.png")
    magnetite.write(NOISY, tmp_path / "n.png")
    done = run("view", "sweep", *words.split(), "--out", "f.png", "--format", "csv")
    rows = list(csv.DictReader(io.StringIO(done.stdout)))
    assert len(rows) == figures
    assert size_of(tmp_path / "f.png")[0] == 1280
    if "--pictures" in words:
        for number, step in enumerate(("4dn", "8dn", "16dn"), 1):
            made = magnetite.read(tmp_path / "made" / f"0{number}_dct_step={step}.png")
            assert made.same_samples(magnetite.compress(PICTURE, f"dct step={step}").picture)


@pytest.mark.parametrize(
    ("words", "told"),
    [
        ("median size=3,5 + gaussian-noise sd=2%", "degradations come before"),
        ("dct step=2dn,3dn block=4,8 zone=0.1,0.2", "one or two settings"),
        ("dct step=1..99dn", "at most 40"),
        ("dct step=2,3", "no unit"),
        ("median size=3,5 --reference small.png", "small.png"),
        ("median size=3,5 --crop 60,40,30x30", "leaves"),
        ("median size=3,5 --metrics sim", "ssim"),
        ("median size=3,5 --show", "display"),
    ],
)
def test_bad_sweeps_leave_nothing(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, words: str, told: str
) -> None:
    monkeypatch.delenv("DISPLAY", raising=False)
    monkeypatch.delenv("WAYLAND_DISPLAY", raising=False)
    magnetite.write(PICTURE, tmp_path / "p.png")
    magnetite.write(as_picture(PICTURE.samples[:9]), tmp_path / "small.png")
    bad = run("view", "sweep", "p.png", *words.split(), "--out", "f.png", status=2)
    assert told in bad.stderr
    assert bad.stderr.count("\n") == 1
    assert not (tmp_path / "f.png").exists()


def test_metrics_that_do_not_suit_are_left_out_with_a_reason(run: Run, tmp_path: Path) -> None:
    magnetite.write(sample_pictures()["gray 8"], tmp_path / "g.png")
    done = run("view", "sweep", "g.png", "dct", "step=4%,8%", "--metrics", "delta-e,psnr")
    assert "note: delta-e left out: delta-e needs an RGB picture" in done.stderr
    assert "psnr" in done.stdout
    assert "delta-e" not in done.stdout


def test_names_of_files_hold_nothing_that_a_file_system_refuses() -> None:
    assert named("01 a/b:c*d\u202e", ".png") == "01_a-b-c-d-.png"
