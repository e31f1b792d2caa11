"""Large pictures are coded slab by slab, also where they are never in memory as a whole."""

from __future__ import annotations

import json
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest

import magnetite
from conftest import Run
from magnetite.core.codecs.layers import slabs
from magnetite.core.codecs.layers.container import Stream, unpack
from magnetite.core.errors import InputError, LimitError, StreamError
from magnetite.core.operations.compress import compressing
from magnetite.core.operations.expand import expand
from magnetite.core.picture import Picture, as_picture
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.region import Region, RegionRows
from magnetite.core.picture.rows import Allowance
from magnetite.files.row_access import open_rows
from magnetite.files.streams import write_coded_rows

STEPS = ("dct step=5%", "predictive", "pcm bits=4", "bit-planes keep=5", "svd rank=2 block=8")


@pytest.fixture(autouse=True)
def small_slabs(monkeypatch: pytest.MonkeyPatch) -> None:
    """Pictures of more than 10000 px are cut into slabs of 64 rows."""
    monkeypatch.setattr(slabs, "LARGE", 10000)
    monkeypatch.setattr(slabs, "SLAB", 1)


def made(channels: int) -> Picture:
    y, x = np.mgrid[:150, :80]
    plane = 128 + 70 * np.sin(x / 9) * np.cos(y / 7)
    plane = plane + np.random.default_rng(1).normal(0, 4, plane.shape)
    samples = np.stack([plane, plane[::-1], 255 - plane], axis=-1)[..., :channels]
    return as_picture(np.rint(samples.clip(0, 255)).astype(np.uint8).squeeze())


def test_slabs_cover_a_picture_by_a_multiple_of_rows(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.undo()
    twelve = Frame(3000, 4000, 3, "rgb", 8)
    assert slabs.slab_height(twelve) == 3000
    for width in (900, 8000, 40000, 300000):
        whole = slabs.Slabs(Frame(40000000 // width, width, 1, "gray", 8), make=lambda frame: None)
        parts = [whole.part(i) for i in range(whole.count)]
        assert (parts[0].start, parts[-1].stop) == (0, whole.frame.height)
        assert all(one.stop == other.start for one, other in pairwise(parts))
        height = whole.height
        assert height % 64 == 0
        assert height == 64 or height * width <= 2**23 < (height + 64) * width


@pytest.mark.parametrize("channels", [1, 3])
@pytest.mark.parametrize("step", STEPS)
def test_a_slab_is_coded_as_a_picture_of_its_rows(step: str, channels: int) -> None:
    picture = made(channels)
    whole = magnetite.compress(picture, step)
    sections, decoded = unpack(whole.data).sections, []
    parts = [slice(0, 64), slice(64, 128), slice(128, 150)]
    each = len(sections) // len(parts)
    for index, part in enumerate(parts):
        slab = replace(picture, samples=picture.samples[part])
        alone = magnetite.compress(slab, step)
        own = sections[index * each : (index + 1) * each]
        assert alone.data == Stream(slab.frame, alone.step, own).pack()
        decoded.append(alone.picture.samples)
    np.testing.assert_array_equal(whole.picture.samples, np.concatenate(decoded))
    assert sum(whole.parts.values()) == len(whole.data)


@pytest.mark.parametrize("step", STEPS)
def test_rows_are_coded_to_the_same_file(tmp_path: Path, step: str) -> None:
    picture, path = made(3), tmp_path / "coded.mgt"
    account = write_coded_rows(path, compressing(picture, step))
    whole = magnetite.compress(picture, step)
    assert path.read_bytes() == whole.data
    assert (account.parts, account.bpp, account.ratio) == (whole.parts, whole.bpp, whole.ratio)
    rows = open_rows(path)
    assert rows is not None
    assert rows.frame == picture.frame
    for part in (slice(0, 150), slice(3, 4), slice(60, 129), slice(149, 150), slice(0, 64)):
        np.testing.assert_array_equal(rows.part(part).samples, whole.picture.samples[part])
    assert list(tmp_path.iterdir()) == [path]


def test_what_needs_the_whole_picture_or_more_memory_says_so() -> None:
    picture = made(1)
    rows = RegionRows(picture, Region(0, 0, picture.width, picture.height))
    for step in ("wavelet step=5%", "svd rank=2", "fourier keep=5%"):
        with pytest.raises(InputError, match="codes the whole picture at once"):
            compressing(rows, step, Allowance(0, 0))
    with pytest.raises(LimitError, match=r"allow 301 MiB \(--memory 301MiB\)"):
        compressing(rows, "dct step=5%", Allowance(0))


def test_damaged_streams_of_slabs_are_refused(tmp_path: Path) -> None:
    path = tmp_path / "coded.mgt"
    data = magnetite.compress(made(1), "predictive").data
    altered = bytearray(data)
    altered[-5] ^= 1
    for bad, says in ((data[:-9], "9 bytes are missing"), (altered, "altered"), (data + b"x", "")):
        path.write_bytes(bad)
        with pytest.raises(StreamError, match=rf"coded.mgt: .*{says}"):
            open_rows(path)
    with pytest.raises(StreamError, match="9 bytes are missing"):
        expand(data[:-9])
    stream = unpack(data)
    path.write_bytes(Stream(stream.frame, stream.step, stream.sections[:-1]).pack())
    for reader in (lambda: open_rows(path), lambda: expand(path.read_bytes())):
        with pytest.raises(StreamError, match="2 sections are there for 3 slabs"):
            reader()


def test_a_header_of_a_huge_picture_costs_nothing(tmp_path: Path) -> None:
    path = tmp_path / "huge.mgt"
    frame = Frame(2**34, 2**34, 1, "gray", 8)
    path.write_bytes(Stream(frame, "predictive", [b"12"]).pack())
    with pytest.raises(StreamError, match="1 sections are there for 268435456 slabs"):
        open_rows(path)


@pytest.mark.long
def test_commands_code_and_score_in_slabs(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(slabs, "LARGE", 2**20)
    monkeypatch.setattr(slabs, "SLAB", 2**18)
    large = as_picture(np.tile(made(1).samples, (26, 19)))  # 5.9 megapixels would take 379 MB
    magnetite.write(large, tmp_path / "large.tif")
    memory = ["--memory", "345MiB"]
    coded = [*memory, "compress", "large.tif", "coded.mgt"]
    done = run(*coded, "dct", "step=12dn", "smooth=off", "--decoded", "back.tif")
    whole = magnetite.compress(large, "dct step=12dn smooth=off")
    assert "the picture was coded in slabs" in done.stderr
    assert (tmp_path / "coded.mgt").read_bytes() == whole.data
    assert magnetite.read(tmp_path / "back.tif").same_samples(whole.picture)
    psnr = magnetite.score(large, whole.picture, "psnr")["psnr"]
    assert f"PSNR {psnr:.2f} dB" in done.stdout
    scored = run(*memory, "score", "large.tif", "coded.mgt", "--format", "json").stdout
    (row,) = json.loads(scored)["rows"]
    assert row["scores"]["psnr"] == pytest.approx(psnr, rel=1e-9)
    assert row["bytes"] == len(whole.data)
    run(*memory, "convert", "coded.mgt", "part.png", "crop", "top=900", "width=99", "height=70")
    part = magnetite.read(tmp_path / "part.png").samples
    np.testing.assert_array_equal(part, whole.picture.samples[900:970, :99])
    few = ["--max-samples", "4000000"]
    searched = run(*few, *coded, "dct", "--rate", "1bpp", status=2)
    assert "need the whole picture: write the setting, or allow more samples" in searched.stderr
    curves = run(*few, *memory, "gauge", "large.tif", "--curves", "c", status=2)
    assert "name a part of it (--region)" in curves.stderr
    refused = run(*coded, "dct", "step=12dn", "--decoded", "back.png", status=2)
    assert "is written as .tif or .npy" in refused.stderr
