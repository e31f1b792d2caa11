"""The installed program, command by command, on files."""

from __future__ import annotations

import csv
import io
import json
import re
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

import magnetite
from conftest import Run, file_of, sample_pictures, size_of

CHAIN = ["gaussian-blur", "sigma=0.6", "+", "gaussian-noise", "sd=3%", "+", "quantize", "bits=6"]


@pytest.mark.parametrize("name", ["rgb 16", "gray float", "5 planes 16"])
def test_the_whole_job_on_any_picture(run: Run, tmp_path: Path, name: str) -> None:
    reference = file_of(name, tmp_path)
    worn = f"worn{reference.suffix}"
    run("degrade", reference, worn, *CHAIN, "--seed", "5")
    certificate = json.loads((tmp_path / f"{worn}.cert.json").read_text())
    expected = "gaussian-blur sigma=0.6px + gaussian-noise sd=3% + quantize bits=6"
    assert certificate["chain"] == expected
    assert [step["step"] for step in certificate["steps"]] == expected.split(" + ")
    noise = certificate["steps"][1]["findings"][0]
    full_scale = sample_pictures()[name].full_scale
    assert noise["asked"] == pytest.approx(0.03 * full_scale)
    assert noise["verdict"] == "as asked"

    decoded = f"decoded{reference.suffix}"
    printed = run("compress", reference, "tile.mgt", "dct", "step=4%", "--decoded", decoded).stdout
    size = (tmp_path / "tile.mgt").stat().st_size
    picture = sample_pictures()[name]
    assert f"{8 * size / (picture.width * picture.height):.4f} bpp" in printed
    run("expand", "tile.mgt", f"expanded{reference.suffix}")
    again = magnetite.read(tmp_path / f"expanded{reference.suffix}")
    np.testing.assert_array_equal(again.samples, magnetite.read(tmp_path / decoded).samples)

    mended = f"mended{reference.suffix}"
    printed = run("restore", worn, mended, "median", "--reference", reference).stdout
    assert "before" in printed
    rows = json.loads(run("score", reference, worn, mended, reference, "--format", "json").stdout)[
        "rows"
    ]
    direct = magnetite.score(picture, magnetite.read(tmp_path / worn))
    assert rows[0]["scores"] == pytest.approx(dict(direct))
    assert rows[2]["scores"] == {"mse": 0, "psnr": "inf", "ssim": 1}
    assert rows[2]["identical"]
    assert rows[0]["peak"] == full_scale
    run("curve", reference, "--codec", "dct step=4%,16%", "--out", "curves")
    if picture.colour != "planes":
        assert "laplacian-variance" in run("gauge", reference, worn).stdout
        run("view", "sheet", reference, worn, "tile.mgt", "--crop", "3,2,12x9")
        assert size_of(tmp_path / "sheet.png")[0] == 1280


def test_a_photograph_as_cameras_write_them(run: Run, tmp_path: Path) -> None:
    exif = Image.Exif()
    exif[274] = 6
    with Image.open(file_of("rgb 8", tmp_path)) as upright:
        upright.save(tmp_path / "photo.jpg", quality=90, exif=exif)
    done = run("degrade", "photo.jpg", "degraded.png", "gaussian-noise", "sd=5dn")
    assert "note: photo.jpg: turned upright (orientation 6)" in done.stderr
    assert size_of(tmp_path / "degraded.png") == upright.size[::-1]
    done = run("degrade", "photo.jpg", "worn.jpg", "gaussian-noise", "sd=5dn")
    assert "JPEG is lossy" in done.stderr


def test_same_seed_same_bytes(run: Run, tmp_path: Path, tile: Path) -> None:
    for name, seed in (("a.png", "3"), ("b.png", "3"), ("c.png", "4")):
        run("degrade", tile, name, "gaussian-noise", "sd=9dn", "--seed", seed)
    a, b, c = ((tmp_path / f"{n}.png").read_bytes() for n in "abc")
    assert a == b
    assert a != c


def test_printed_formats_carry_the_same_figures(run: Run, tile: Path) -> None:
    run("degrade", tile, "degraded.png", "gaussian-blur", "sigma=1")
    metrics = ["--metrics", "psnr,ssim window=7"]
    table, plain, data = (
        run("score", tile, "degraded.png", *metrics, "--format", f).stdout
        for f in ("table", "csv", "json")
    )
    (row,) = csv.DictReader(io.StringIO(plain))
    scores = json.loads(data)["rows"][0]["scores"]
    assert float(row["psnr"]) == scores["psnr"]
    assert float(row["ssim window=7"]) == scores["ssim window=7"]
    assert f"{scores['psnr']:.2f}" in table
    assert "peak 255" in table
    gauges = json.loads(run("gauge", tile, "degraded.png", "--format", "json").stdout)["rows"]
    sharp, soft = (row["gauges"]["laplacian-variance"] for row in gauges)
    assert sharp > soft


def test_curve_writes_points_and_figure(run: Run, tmp_path: Path, tile: Path) -> None:
    codecs = ["--codec", "dct", "--codec", "dct step=2%..10%/4 block=16"]
    out = run("curve", tile, *codecs, "--out", "out", "--format", "csv", "--workers", "1").stdout
    rows = list(csv.DictReader(io.StringIO(out)))
    kept = list(csv.DictReader((tmp_path / "out" / "scores.csv").read_text().splitlines()))
    assert {(r["treatment"], r["psnr"]) for r in kept} == {(r["codec"], r["psnr"]) for r in rows}
    assert [r["codec"] for r in rows if "block" in r["codec"]] == [
        f"dct step={s}% block=16" for s in (10, 6, 2)
    ]
    for row in rows:
        pixels = 8 * int(row["bytes"]) / float(row["bpp"])
        assert pixels == pytest.approx(41 * 29)
    assert size_of(tmp_path / "out" / "curve.png") == (1280, 640)


def test_gray_and_depth_are_converted_only_when_asked(run: Run, tmp_path: Path, tile: Path) -> None:
    picture = magnetite.read(tile)
    magnetite.write(picture.luma(), tmp_path / "gray.png")
    wide = magnetite.Picture(picture.samples.astype(np.uint16) * 257, 16, "rgb")
    magnetite.write(wide, tmp_path / "wide.png")
    assert (
        "convert one to gray, or score with gray" in run("score", tile, "gray.png", status=2).stderr
    )
    row = run("score", tile, "gray.png", "--gray", "--format", "json", "--metrics", "mse").stdout
    # The luma itself, against its rounded values: their error is even over a dn.
    assert json.loads(row)["rows"][0]["scores"]["mse"] == pytest.approx(1 / 12, rel=0.1)
    assert "or score with mixed depths" in run("score", tile, "wide.png", status=2).stderr
    assert "identical" in run("score", tile, "wide.png", "--mixed-depths").stdout
    # Both at once: luma of 8 bits against gray of 16, rounded to the depth of the reference.
    gray = np.random.default_rng(0).integers(0, 65536, picture.samples.shape[:2], np.uint16)
    magnetite.write(magnetite.Picture(gray, 16, "gray"), tmp_path / "deep.png")
    for words, expected in (
        ((tile, "deep.png"), np.rint(gray / 257)), (("deep.png", tile), gray / 257),
    ):  # fmt: skip
        done = run("score", *words, "--gray", "--mixed-depths", "--metrics", "mse",
                   "--format", "json").stdout  # fmt: skip
        luma = picture.samples @ np.array([0.299, 0.587, 0.114])
        error = np.mean((luma - expected) ** 2)
        assert json.loads(done)["rows"][0]["scores"]["mse"] == pytest.approx(error, rel=1e-6)
        refused = run("score", *words, "--mixed-depths", status=2).stderr
        assert re.search(r"the colours differ: .* 16 bits.*; convert one to gray, or", refused)
    paged = run("report", "--pictures", tile, "deep.png", "--out", "p.html", status=2).stderr
    assert "the colours differ" in paged
    viewed = run("view", "residual", tile, "wide.png", status=2).stderr
    assert viewed.endswith("convert one, as in depth bits=8\n")


def test_a_part_of_the_pictures_is_scored(run: Run, tmp_path: Path, tile: Path) -> None:
    picture = magnetite.read(tile)
    run("degrade", tile, "degraded.png", "gaussian-noise", "sd=5%")
    worn = magnetite.read(tmp_path / "degraded.png")
    for words, rows, columns in (
        (("--region", "3,5,20x30"), slice(5, 35), slice(3, 23)),
        (("--crop-border", "4"), slice(4, -4), slice(4, -4)),
    ):
        printed = run("score", tile, "degraded.png", *words, "--format", "json").stdout
        direct = magnetite.score(picture.samples[rows, columns], worn.samples[rows, columns])
        assert json.loads(printed)["rows"][0]["scores"] == pytest.approx(dict(direct))
    assert (
        ", region 3,5,20x30)" in run("score", tile, "degraded.png", "--region", "3,5,20x30").stdout
    )
    assert "leaves nothing" in run("score", tile, tile, "--crop-border", "20", status=2).stderr


def test_scenes_differ_in_texture_and_follow_the_seed(run: Run, tmp_path: Path) -> None:
    for folder, seed in (("one", "0"), ("same", "0"), ("other", "1")):
        run("scenes", folder, "--size", "160x112", "--seed", seed)
    names = sorted(path.name for path in (tmp_path / "one").iterdir())
    assert len(names) == 5
    for name in names:
        one, same, other = ((tmp_path / f / name).read_bytes() for f in ("one", "same", "other"))
        assert one == same
        assert (one == other) == (name == "chart-plate.png")
    rates = {
        name: magnetite.compress(magnetite.read(tmp_path / "one" / name), "dct step=6%").bpp
        for name in names
    }
    assert rates["veined-breccia.png"] > 2.5 * rates["clay-core.png"]


def test_output_into_a_closed_pipe_is_no_error(tmp_path: Path) -> None:
    import subprocess

    from conftest import PROGRAM

    done = subprocess.run(
        f"set -o pipefail; '{PROGRAM}' methods --format json | head -c 10",
        shell=True, executable="/bin/bash", capture_output=True, text=True, cwd=tmp_path,
    )  # fmt: skip
    assert (done.returncode, done.stderr) == (0, "")


def test_only_the_command_that_is_called_is_built() -> None:
    from magnetite.cli.main import COMMANDS, VALUED, command_of, program

    options = program("methods").params
    valued = {o.opts[0] for o in options if not o.is_flag and o.opts[0] != "--help"}
    assert valued == VALUED
    assert command_of(["--threads", "2", "--quiet", "score", "run"]) == "score"
    assert command_of(["--convert", "gray", "gauge"]) == "gauge"
    assert command_of(["--memory=1GiB", "demo"]) == "demo"
    assert command_of(["--help"]) is command_of(["nonsense", "score"]) is command_of([]) is None
    assert set(program().commands) == set(COMMANDS)
    assert list(program("view").commands) == ["view"]
