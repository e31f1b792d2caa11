"""Raw mosaics in TIFF and DNG files, made by another writer."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import tifffile

import magnetite
from magnetite.core.errors import FileError
from magnetite.files.reading import read

RAW = np.random.default_rng(3).integers(64, 4000, (48, 60)).astype(np.uint16)
SMALL = np.full((12, 15, 3), 120, np.uint8)


def tags(pattern: bytes, *more: tuple) -> list[tuple]:
    """Pattern of 2 by 2, and others."""
    return [(33421, "H", 2, (2, 2), True), (33422, "B", 4, pattern, True), *more]


@pytest.mark.parametrize(
    ("codes", "words"),
    [
        (b"\0\1\1\2", "pattern rggb"), (b"\2\1\1\0", "pattern bggr"), (b"\1\0\2\1", "pattern grbg"),
        (b"\3\4\5\6", "unknown pattern"),
    ],
)  # fmt: skip
def test_a_mosaic_states_its_pattern_and_levels(tmp_path: Path, codes: bytes, words: str) -> None:
    path = tmp_path / "raw.tif"
    levels = [(50714, "2I", 1, (128, 2), True), (50717, "H", 1, 4095, True)]
    tifffile.imwrite(path, RAW, photometric="CFA", extratags=tags(codes, *levels))
    picture = read(path)
    assert np.array_equal(picture.samples, RAW)
    assert (picture.colour, picture.bits, picture.light) == ("gray", 16, "linear")
    (note,) = picture.notes
    assert f"{words}, black level 64 dn, white level 4095 dn" in note
    assert read(path, full_scale=4095).bits == 12


def test_a_curve_is_said(tmp_path: Path) -> None:
    path = tmp_path / "curve.dng"
    curve = (50712, "H", 4, (0, 10, 100, 1000), True)
    tifffile.imwrite(path, RAW, photometric="CFA", extratags=tags(b"\0\1\1\2", curve))
    picture = read(path)
    assert picture.light == "unknown"
    assert "stored by a curve, which is not undone" in picture.notes[0]


def test_the_mosaic_within_a_dng_is_taken_not_its_preview(tmp_path: Path) -> None:
    path = tmp_path / "camera.dng"
    with tifffile.TiffWriter(path) as tiff:
        tiff.write(SMALL, photometric="RGB", subifds=2, subfiletype=1)
        tiff.write(SMALL, photometric="RGB")
        tiff.write(RAW, photometric="CFA", subfiletype=0, extratags=tags(b"\0\1\1\2"))
    picture = read(path)
    assert np.array_equal(picture.samples, RAW)
    assert "a mosaic of pattern rggb" in picture.notes[0]
    with pytest.raises(FileError, match="max-samples"):
        read(path, max_samples=RAW.size - 1)
    seen = magnetite.degrade(picture, "demosaic").picture
    assert seen.samples.shape == (48, 60, 3)
