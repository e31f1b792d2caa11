"""Files are read and written in bands, and commands work in them."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import tifffile

import magnetite
from conftest import TALL, Run, tall_picture
from magnetite.core.errors import FileError
from magnetite.core.picture import as_picture
from magnetite.core.picture.region import Region
from magnetite.core.picture.rows import bands_of
from magnetite.files.row_access import open_rows
from magnetite.files.writing import write_rows

LAYOUTS = {
    "strips.tif": {"rowsperstrip": 37},
    "packed.tif": {"rowsperstrip": 64, "compression": "zlib", "predictor": True},
    "tiles.tif": {"tile": (48, 32)},
    "packed-tiles.tif": {"tile": (64, 64), "compression": "zlib"},
    "big.tif": {"rowsperstrip": 100, "bigtiff": True},
    "other-order.tif": {"rowsperstrip": 50, "byteorder": ">"},
}


@pytest.mark.parametrize("name", [*LAYOUTS, "plain.npy"])
@pytest.mark.parametrize("kind", ["gray 8", "rgb 16", "gray float"])
def test_rows_of_files_are_those_of_the_picture(tmp_path: Path, name: str, kind: str) -> None:
    picture, path = tall_picture(kind), tmp_path / name
    if name.endswith(".npy"):
        np.save(path, picture.samples)
    else:
        layout = dict(LAYOUTS[name])
        if kind.endswith("float"):
            layout.pop("predictor", None)
        photometric = "rgb" if picture.channels == 3 else "minisblack"
        tifffile.imwrite(path, picture.samples, photometric=photometric, **layout)
    rows = open_rows(path)
    assert rows is not None
    assert rows.frame == picture.frame
    for part in (slice(0, TALL), slice(1, 2), slice(250, 601), slice(TALL - 3, TALL)):
        np.testing.assert_array_equal(rows.part(part).samples, picture.samples[part])
    for out in (tmp_path / "out.tif", tmp_path / "out.npy"):
        write_rows(out, rows.frame, bands_of(rows))
        assert magnetite.read(out).same_samples(picture)


def test_rows_take_a_full_scale_of_their_own(tmp_path: Path) -> None:
    samples = np.random.default_rng(0).integers(0, 4096, (40, 30), np.uint16)
    np.save(tmp_path / "deep.npy", samples)
    rows, whole = (
        open_rows(tmp_path / "deep.npy", 4095),
        magnetite.read(tmp_path / "deep.npy", full_scale=4095),
    )
    assert rows is not None
    assert rows.frame == whole.frame
    assert rows.part(slice(5, 20)).bits == 12
    np.save(tmp_path / "wide.npy", 255 * samples.astype(np.float32) / 4095)
    wide = open_rows(tmp_path / "wide.npy")
    assert wide is not None
    with pytest.raises(FileError, match=r"wide.npy: float samples reach .* --full-scale 255"):
        wide.part(slice(0, 40))


def test_commands_work_in_bands_of_the_memory_allowed(run: Run, tmp_path: Path) -> None:
    picture = tall_picture("gray 8")
    large = as_picture(np.tile(picture.samples, (10, 20)))  # 12.7 megapixels would take 815 MB
    magnetite.write(large, tmp_path / "large.tif")
    chain = ["gaussian-blur", "sigma=1", "+", "gaussian-noise", "sd=5dn"]
    memory = ["--memory", "420MiB"]
    run(*memory, "degrade", "large.tif", "worn.tif", *chain, "--seed", "3")
    whole = magnetite.degrade(large, " ".join(chain), seed=3).picture
    assert magnetite.read(tmp_path / "worn.tif").same_samples(whole)
    assert (tmp_path / "worn.tif.cert.json").exists()
    scored = ["score", "large.tif", "worn.tif", "--format", "json"]
    banded, plain = (json.loads(run(*m, *scored).stdout)["rows"][0] for m in (memory, []))
    assert banded.pop("scores") == pytest.approx(plain.pop("scores"), rel=1e-9)
    assert banded == plain
    out = run(*memory, "restore", "worn.tif", "back.tif", "median", "size=3", "--reference",
              "large.tif")  # fmt: skip
    assert "the picture was restored in bands" in out.stderr
    restored = magnetite.restore(whole, "median size=3").picture
    assert magnetite.read(tmp_path / "back.tif").same_samples(restored)
    gauged = ["gauge", "worn.tif", "--metrics", "sd,tenengrad", "--format", "json"]
    banded, plain = (json.loads(run(*m, *gauged).stdout)["rows"][0] for m in (memory, []))
    assert banded["gauges"] == pytest.approx(plain["gauges"], rel=1e-9)
    few = ["--max-samples", "5000000", "gauge", "worn.tif", "--metrics", "all"]
    assert "ringing left out: ringing: needs the whole picture" in run(*memory, *few).stderr
    part = ["--region", "300,200,200x160"]
    for command in (["score", "large.tif", "worn.tif"], ["gauge", "worn.tif"]):
        banded, plain = (run(*m, *command, *part).stdout for m in (memory, []))
        assert banded.splitlines()[-3:] == plain.splitlines()[-3:]
    run(*memory, "convert", "worn.tif", "part.png", "crop", "left=9", "width=30", "height=20")
    assert magnetite.read(tmp_path / "part.png").same_samples(Region(9, 0, 30, 20).crop(whole))
    run(*memory, "convert", "worn.tif", "deep.tif", "depth", "bits=16")
    assert magnetite.read(tmp_path / "deep.tif").bits == 16
    # A file of which no rows can be read is read whole, and written as what is asked for.
    magnetite.write(large, tmp_path / "large.bmp")
    run(*memory, "degrade", "large.bmp", "soft.bmp", "box-blur", "size=3")
    mixed = run(*memory, "score", "large.tif", "soft.bmp", "--format", "json").stdout
    soft = magnetite.read(tmp_path / "soft.bmp")
    expected = magnetite.score(large, soft)
    assert json.loads(mixed)["rows"][0]["scores"] == pytest.approx(expected, rel=1e-9)
    refused = run(*memory, "degrade", "large.tif", "worn.png", *chain, status=2)
    assert "is written as .tif or .npy" in refused.stderr
    assert not (tmp_path / "worn.png.cert.json").exists()
    assert "is not a size" in run("--memory", "much", "methods", status=2).stderr
    data = (tmp_path / "large.tif").read_bytes()
    (tmp_path / "cut.tif").write_bytes(data[: len(data) // 2])
    cut = run(*memory, "score", "large.tif", "cut.tif", status=2)
    assert "truncated" in cut.stderr
