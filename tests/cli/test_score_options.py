"""What `score` compares: shifted pictures, parts of them, folders and repeats."""

from __future__ import annotations

import csv
import io
import itertools
import json
import math
import re
import shutil
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import ndimage

import magnetite
from conftest import Run, pair, texture
from magnetite.cli.score_output import _alike
from magnetite.core.analysis.repeats import summarise
from magnetite.core.errors import InputError, PictureError
from magnetite.core.picture import as_picture
from magnetite.core.picture.alignment import Shift, aligned, find_shift
from magnetite.synthetic.catalogue import SCENES


def moved(plane: np.ndarray, right: float, down: float) -> np.ndarray:
    """The plane shifted through its Fourier transform, as if it went on for ever."""
    return np.fft.ifft2(ndimage.fourier_shift(np.fft.fft2(plane), (down, right))).real


@pytest.mark.parametrize(
    "scene",
    [
        pytest.param(scene, id=scene.name, marks=[pytest.mark.long] * (k > 1))
        for k, scene in enumerate(SCENES)
    ],
)
@pytest.mark.parametrize("shift", [(0.0, 0.0), (3.0, -5.0), (0.5, 0.5), (-1.7, 0.25)])
def test_shifts_are_found_in_blurred_and_noisy_pictures(
    scene: object, shift: tuple[float, float]
) -> None:
    plane = scene.picture(320, 224, 0).luma().on_scale(1.0)
    test = ndimage.gaussian_filter(moved(plane, *shift), 0.8)
    assert find_shift(plane, test)[:2] == pytest.approx(shift, abs=0.03)
    rng = np.random.default_rng(3)
    noisy = test + rng.normal(0, 0.02, plane.shape)
    found = find_shift(plane, noisy)
    assert found[:2] == pytest.approx(shift, abs=0.1)
    assert found.error < 0.15


LONG = pytest.mark.long


@pytest.mark.parametrize(
    "size", [128, *(pytest.param(size, marks=LONG) for size in (64, 200, 256, 300))]
)
def test_unrelated_pictures_have_no_shift(size: int) -> None:
    rng = np.random.default_rng(size)
    planes = [scene.picture(500, 400, 1).luma().on_scale(1.0) for scene in SCENES]
    for planes_of_two in itertools.permutations(planes, 2):
        crops = []
        for plane in planes_of_two:
            top, left = (rng.integers(0, side - size) for side in plane.shape)
            crops.append(plane[top : top + size, left : left + size])
        with pytest.raises(PictureError, match=r"no common shift|cannot be (told|measured)"):
            find_shift(*crops)


@pytest.mark.long
def test_the_error_of_a_shift_is_as_large_as_is_said() -> None:
    rng = np.random.default_rng(4)
    plane = SCENES[1].picture(640, 448, 0).luma().on_scale(1.0)
    held, errors = 0, []
    for blur, noise in itertools.product((1, 3, 5), (0.002, 0.01)):
        for _ in range(2):
            shift = rng.uniform(-3, 3, 2)
            smooth = ndimage.gaussian_filter(plane, blur)
            pair = [
                (p + rng.normal(0, noise, p.shape))[60:300, 60:300]
                for p in (smooth, moved(smooth, *shift))
            ]
            found = find_shift(*pair)
            errors.append(np.abs(found[:2] - shift).max())
            held += errors[-1] <= found.error
    assert held >= 10, "of 12 intervals of 95 %"
    assert max(errors) < 0.15


def test_whole_shifts_crop_and_others_interpolate() -> None:
    scene = SCENES[1].picture(330, 240, 0)
    reference, test = (
        magnetite.Picture(scene.samples[a : a + 200, b : b + 300], 8, "rgb")
        for a, b in ((10, 20), (13, 8))
    )
    match = aligned(reference, test)
    assert match.shift[:2] == pytest.approx((12, -3), abs=0.01)
    assert str(match.region) == "0,3,288x197"
    assert match.reference.same_samples(match.test)
    half = moved(SCENES[1].picture(330, 240, 0).luma().on_scale(255.0), 0.5, 0.0)
    gray = SCENES[1].picture(330, 240, 0).luma()
    shifted = magnetite.Picture(np.rint(half).clip(0, 255).astype(np.uint8), 8, "gray")
    match = aligned(gray, shifted)
    before = magnetite.score(gray, shifted, "psnr")["psnr"]
    after = magnetite.score(match.reference, match.test, "psnr")["psnr"]
    assert after > before + 12, "half a px of shift ruins every score"
    with pytest.raises(PictureError, match="no common shift was found"):
        aligned(gray, magnetite.Picture(np.full((240, 330), 9, np.uint8), 8, "gray"))


def test_scores_of_unlike_parts_are_told_by_their_shifts() -> None:
    def rows(*shifts: Shift | None) -> list[object]:
        return [SimpleNamespace(scores=SimpleNamespace(shift=shift)) for shift in shifts]

    assert _alike(rows(None, None))
    assert _alike(rows(Shift(2.1, -3.0), Shift(1.9, -3.2)))
    for other in (Shift(3, -3), Shift(2, -4), None):
        assert not _alike(rows(Shift(2, -3), other))


def test_a_mask_of_several_channels_counts_by_the_largest() -> None:
    clean, worn = pair(40, 48)
    mask = np.zeros((40, 48, 3), np.uint8)
    mask[5:30, 8:20, 0], mask[5:30, 20:40, 2] = 7, 255
    found = magnetite.score(clean.astype(np.uint8), worn.astype(np.uint8), "mse", mask=mask)
    difference = (clean - worn)[5:30, 8:40]
    assert found["mse"] == pytest.approx(np.mean(difference**2))


def test_alignment_and_masks_at_the_command_line(run: Run, tmp_path: Path) -> None:
    run("scenes", "trays", "--size", "330x240")
    scene = magnetite.read(tmp_path / "trays/veined-breccia.png")
    for name, left in (("a.png", 0), ("b.png", 7)):
        magnetite.write(
            magnetite.Picture(scene.samples[:, left : left + 320], 8, "rgb"), tmp_path / name
        )
    done = run("score", "a.png", "b.png", "--align", "--format", "json")
    (row,) = json.loads(done.stdout)["rows"]
    assert row["identical"]
    assert row["shift"] == pytest.approx({"right": -7, "down": 0, "error": 0.003}, abs=0.01)
    assert (
        "b.png lies 7.00 px left, 0.00 px down (± 0.00 px) of a.png; undone, 313x240 px"
        in done.stderr
    )
    line = run("score", "a.png", "b.png", "--align", "--format", "csv").stdout.splitlines()[0]
    assert line.endswith("identical,peak,right,down,shift error")
    # Scores of unlike parts have no best among them.
    magnetite.write(
        magnetite.Picture(scene.samples[:, 3:323] // 2 * 2, 8, "rgb"), tmp_path / "c.png"
    )
    assert "* the best" in run("score", "a.png", "b.png", "c.png").stdout
    assert "*" not in run("score", "a.png", "b.png", "c.png", "--align").stdout
    mask = np.zeros((240, 320), np.uint8)
    mask[50:150, 100:200] = 255
    magnetite.write(magnetite.Picture(mask, 8, "gray"), tmp_path / "mask.png")
    masked = run("score", "a.png", "b.png", "--mask", "mask.png", "--format", "csv").stdout
    region = run("score", "a.png", "b.png", "--region", "100,50,100x100", "--format", "csv").stdout
    one, two = (next(csv.DictReader(io.StringIO(text))) for text in (masked, region))
    for metric in ("mse", "psnr", "ssim"):
        assert float(one[metric]) == pytest.approx(float(two[metric]), rel=1e-9)
    assert (one["measured part"], two["measured part"]) == (
        "within mask.png",
        "region 100,50,100x100",
    )
    magnetite.write(scene, tmp_path / "whole.tif")
    coded = magnetite.compress(scene, "dct step=9%")
    (tmp_path / "whole.mgt").write_bytes(coded.data)
    part = run("score", "whole.tif", "whole.mgt", "--gray", "--region", "9,9,99x88").stdout
    assert "(330x240 rgb, 8 bits, region 9,9,99x88, luma)" in part
    assert part.rstrip().endswith("bpp and bytes of the whole file")
    figures = run("gauge", "whole.tif", "--region", "9,9,99x88", "--format", "csv").stdout
    assert next(csv.DictReader(io.StringIO(figures)))["measured part"] == "region 9,9,99x88"
    twins = run("score", "whole.tif", "a.png", "a.png", "--region", "0,0,320x240", status=2).stderr
    assert "the sizes differ" in twins
    assert "*" not in run("score", "a.png", "b.png", "b.png").stdout  # of equals none is best
    refused = run("score", "a.png", "b.png", "--mask", "mask.png", "--metrics", "fsim", status=2)
    assert "fsim takes no mask" in refused.stderr
    magnetite.write(magnetite.Picture(mask * 0, 8, "gray"), tmp_path / "black.png")
    assert (
        "leaves nothing" in run("score", "a.png", "b.png", "--mask", "black.png", status=2).stderr
    )
    small = run("score", "a.png", "b.png", "--mask", "trays/clay-core.png", status=2).stderr
    assert "they must have one size" in small


def test_the_peaks_of_references_of_unlike_depth_are_named(run: Run, tmp_path: Path) -> None:
    for folder, seed in (("refs", 1), ("worn", 2)):
        (tmp_path / folder).mkdir()
        plane = texture(20, 24, seed=seed)
        for name, top, kind in (("a", 255, np.uint8), ("b", 65535, np.uint16)):
            samples = (top * plane).astype(kind)
            magnetite.write(as_picture(samples), tmp_path / folder / f"{name}.png")
    words = ("--metrics", "psnr")
    assert "; peaks 255 and 65535; " in run("score", "refs", "worn", *words).stdout
    assert "; peak 65535; " in run("score", "refs/b.png", "worn/b.png", *words).stdout


def test_folders_are_matched_by_name_and_repeats_summed_up(run: Run, tmp_path: Path) -> None:
    run("scenes", "trays", "--size", "200x150")
    (tmp_path / "trays/notes.txt").write_text("not a picture")
    for seed in ("1", "2", "3"):
        (tmp_path / seed).mkdir()
        for scene in ("veined-breccia", "chart-plate"):
            out = f"{seed}/{scene}.tif"
            run("degrade", f"trays/{scene}.png", out, "gaussian-noise", "sd=9dn", "--seed", seed)
    words = ("score", "trays", "1", "2", "3", "--repeats")
    done = run(*words, "--format", "json")
    content = json.loads(done.stdout)
    names = [(row["reference"], row["test"]) for row in content["rows"]]
    assert names[0] == ("trays/chart-plate.png", "1/chart-plate.tif")
    assert len(names) == 6
    for folder in ("1", "2", "3"):
        lacking = f"without a partner in {folder}, and left out there: trays/banded-ironstone.png, "
        assert lacking in done.stderr
    first = content["repeats"][0]
    values = [row["scores"]["psnr"] for row in content["rows"][:3]]
    assert first["reference"] == "trays/chart-plate.png"
    assert first["scores"]["psnr"]["mean"] == pytest.approx(np.mean(values))
    # t of 2 degrees of freedom is 4.303 at 97.5 %.
    reach = 4.30265 * np.std(values, ddof=1) / math.sqrt(3)
    assert first["scores"]["psnr"]["high"] == pytest.approx(np.mean(values) + reach, rel=1e-5)
    assert "3 repeats of trays/chart-plate.png" in run(*words).stdout
    assert "*" not in run(*words).stdout
    lines = run(*words, "--format", "csv").stdout.splitlines()
    assert lines[0] == "reference,metric,number,mean,sd,low,high"
    assert len(lines) == 1 + 3 * 3, "each of two references, and both"
    copies = (("3/clay-core.tif", "2/clay-core.tif"), ("trays/x.png", "trays/chart-plate.png"))
    run("degrade", "trays/clay-core.png", "2/clay-core.tif", "gaussian-noise", "sd=9dn")
    for copy, known in (
        *copies,
        ("1/x.tif", "1/chart-plate.tif"),
        ("2/x.tif", "2/chart-plate.tif"),
    ):
        shutil.copy(tmp_path / known, tmp_path / copy)
    run("degrade", "trays/clay-core.png", "1/clay-core.tif", "gaussian-noise", "sd=8dn")
    again = run(*words, "1", "--format", "json")
    for copy, known in copies:
        assert f"{copy} holds the same samples as {known}: it counts once" in again.stderr
    assert "1/chart-plate.tif is named twice: it counts once" in again.stderr
    numbers = {one["reference"]: one["scores"]["psnr"]["number"]
               for one in json.loads(again.stdout)["repeats"]}  # fmt: skip
    assert numbers == {
        "trays/chart-plate.png": 3, "trays/clay-core.png": 2, "trays/veined-breccia.png": 3,
        "all references": 3,
    }  # fmt: skip
    assert "repeats are at least two" in run("score", "trays", "1", "--repeats", status=2).stderr
    mixed = run("score", "trays", "1/chart-plate.tif", status=2).stderr
    assert "1/chart-plate.tif is not a folder, unlike the first" in mixed
    (tmp_path / "1/chart-plate.png").write_bytes((tmp_path / "trays/chart-plate.png").read_bytes())
    assert "have one name" in run("score", "trays", "1", status=2).stderr


@given(st.lists(st.floats(-1e3, 1e3), min_size=2, max_size=9))
def test_summaries_are_those_of_their_definition(values: list[float]) -> None:
    summary = summarise([{"mae": value} for value in values])["mae"]
    assert summary.mean == pytest.approx(np.mean(values), abs=1e-9)
    assert summary.low <= summary.mean <= summary.high
    assert summarise([{"psnr": math.inf}, {"psnr": 30.0}])["psnr"].sd is None
    with pytest.raises(InputError, match="at least two"):
        summarise([{"mae": values[0]}])


def test_sizes_of_files_are_whole_numbers_in_tables_of_either_way(run: Run, tmp_path: Path) -> None:
    run("scenes", "trays", "--size", "96x72")
    picture = "trays/veined-breccia.png"
    run("compress", picture, "small.mgt", "dct", "step=5%")
    size = (tmp_path / "small.mgt").stat().st_size
    for metrics in ("psnr", "all"):
        out = run("score", picture, "small.mgt", "--metrics", metrics).stdout
        assert re.search(rf"\b{size}$", out, re.MULTILINE), out


def test_pictures_of_unlike_size_keep_all_figures_and_say_what_is_missing(
    run: Run, tmp_path: Path
) -> None:
    """Columns are the union of all pairs; a missing figure carries its reason in all formats."""
    rng = np.random.default_rng(3)
    for folder in ("refs", "tests"):
        (tmp_path / folder).mkdir()
        for name, side in (("a-small", 24), ("b-large", 200)):
            samples = rng.integers(0, 256, (side, side)).astype(np.uint8)
            magnetite.write(
                magnetite.core.picture.as_picture(samples), tmp_path / folder / f"{name}.png"
            )
    words = ("score", "refs", "tests", "--metrics", "all")
    rows = json.loads(run(*words, "--format", "json").stdout)["rows"]
    small, large = rows
    missing = set(large["scores"]) - set(small["scores"])
    assert {"ms-ssim", "iw-ssim"} <= missing <= set(small["left_out"])
    table = list(csv.DictReader(io.StringIO(run(*words, "--format", "csv").stdout)))
    for row, wanted in zip(table, rows, strict=True):
        for label in large["scores"]:
            assert (row[label] == "") == (label not in wanted["scores"])
            assert (f"; {label}: " in f"; {row['left out']}") == (label not in wanted["scores"])
    shown = run(*words)
    for label in missing:
        assert f"\n{label}" in shown.stdout
        assert f"{label} of tests/a-small.png left out: " in shown.stderr
    tiny = magnetite.core.picture.as_picture(np.full((3, 3), 9, np.uint8))
    magnetite.write(tiny, tmp_path / "c.png")
    gauges = ("gauge", "c.png", "refs/b-large.png", "--metrics", "all", "--format", "csv")
    lines = list(csv.DictReader(io.StringIO(run(*gauges).stdout)))
    for line in lines:
        for label in set(line) - {"picture", "left out"}:
            assert (line[label] == "") == (f"; {label}: " in f"; {line['left out']}")
    assert any(line["left out"] for line in lines)


def test_a_rate_belongs_to_the_whole_coded_picture(run: Run, tmp_path: Path) -> None:
    """A converted part of a compressed picture has the rate of its file, wherever it is shown."""
    rng = np.random.default_rng(4)
    samples = rng.integers(0, 256, (96, 128)).astype(np.uint8)
    magnetite.write(magnetite.core.picture.as_picture(samples), tmp_path / "r.png")
    run("compress", "r.png", "r.mgt", "dct", "--rate", "2bpp")
    bpp = 8 * (tmp_path / "r.mgt").stat().st_size / (96 * 128)
    part = ("--convert", "middle width=32 height=24")
    (row,) = json.loads(run(*part, "score", "r.png", "r.mgt", "--format", "json").stdout)["rows"]
    assert row["bpp"] == pytest.approx(bpp)
    region = ("score", "r.png", "r.mgt", "--region", "3,4,40x30", "--format", "json")
    assert json.loads(run(*region).stdout)["rows"][0]["bpp"] == pytest.approx(bpp)
    run(*part, "report", "--pictures", "r.png", "r.mgt", "--out", "p.html")
    page = (tmp_path / "p.html").read_text()
    data = json.loads(re.search(r'id="data">(.*?)</script>', page, re.DOTALL)[1])
    assert data["rows"][0][1] == pytest.approx(bpp, rel=1e-6)
