"""Colours that files declare are said, and YCbCr is converted by its tags."""

from __future__ import annotations

import struct
import zlib
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image, ImageCms

import magnetite
from conftest import Run, texture
from magnetite.core.errors import FileError

SAMPLES = (255 * np.stack([texture(24, 40, seed=k) for k in range(3)], axis=2)).astype(np.uint8)


def png_with(path: Path, *chunks: tuple[bytes, bytes]) -> None:
    """A PNG with chunks of one's own after the header."""
    Image.fromarray(SAMPLES).save(path)
    data, parts = path.read_bytes(), b""
    for name, body in chunks:
        checksum = struct.pack(">I", zlib.crc32(name + body))
        parts += struct.pack(">I", len(body)) + name + body + checksum
    path.write_bytes(data[:33] + parts + data[33:])


@pytest.mark.parametrize(
    ("chunks", "said"),
    [
        ([(b"gAMA", struct.pack(">I", 100_000))], "a gamma of 1"),
        ([(b"gAMA", struct.pack(">I", 45_455))], ""),
        ([(b"gAMA", struct.pack(">I", 100_000)), (b"sRGB", b"\0")], ""),
        ([(b"cICP", bytes([9, 16, 0, 1]))], "primaries 9, transfer 16"),
        ([(b"cICP", bytes([1, 13, 0, 1])), (b"gAMA", struct.pack(">I", 100_000))], ""),
        ([(b"iCCP", b"x\0\0" + zlib.compress(b"no profile"))], "cannot be read"),
        ([(b"iCCP", b"x\0\0" + b"no stream")], "cannot be read"),
        ([(b"sBIT", bytes([5, 6, 5]))], "significant bits differ between channels (5, 6, 5)"),
    ],
)
def test_chunks_of_png_on_colour_are_said(
    tmp_path: Path, chunks: list[tuple[bytes, bytes]], said: str
) -> None:
    png_with(tmp_path / "p.png", *chunks)
    picture = magnetite.read(tmp_path / "p.png")
    np.testing.assert_array_equal(picture.samples, SAMPLES)
    notes = " ".join(picture.notes)
    assert said in notes if said else notes == ""


def test_profiles_are_named_unless_they_are_srgb(tmp_path: Path) -> None:
    srgb = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    wide = srgb.replace(b"s\0R\0G\0B", b"w\0i\0d\0e").replace(b"sRGB built-in", b"wide built-in")
    for ending, options in (("png", {}), ("jpg", {"quality": 95}), ("tif", {}),
                            ("webp", {"lossless": True})):  # fmt: skip
        for profile, said in ((srgb, False), (wide, True)):
            path = tmp_path / f"p.{ending}"
            Image.fromarray(SAMPLES).save(path, icc_profile=profile, **options)
            notes = " ".join(magnetite.read(path).notes)
            assert ("ICC profile" in notes) == said, (ending, notes)


def test_ycbcr_of_tiff_is_converted_by_its_tags(tmp_path: Path) -> None:
    """By the definition: full range, BT.601; against the decoder of a second library."""
    red, green, blue = np.moveaxis(SAMPLES.astype(float), 2, 0)
    y = 0.299 * red + 0.587 * green + 0.114 * blue
    chroma = (blue - y) / 1.772 + 128, (red - y) / 1.402 + 128
    coded = np.rint(np.stack([y, *chroma], axis=2)).clip(0, 255).astype(np.uint8)
    path = tmp_path / "y.tif"
    tifffile.imwrite(path, coded, photometric="ycbcr")
    picture = magnetite.read(path)
    assert "YCbCr converted to RGB" in picture.notes
    assert np.abs(picture.samples.astype(int) - SAMPLES).max() <= 2
    second = np.asarray(Image.frombytes("YCbCr", (40, 24), coded.tobytes()).convert("RGB"))
    assert np.abs(picture.samples.astype(int) - second).max() <= 1
    with tifffile.TiffFile(path) as tiff:
        (tag,) = (t for t in tiff.pages[0].tags.values() if t.code == 530)
        position = tag.valueoffset
    data = bytearray(path.read_bytes())
    data[position : position + 4] = struct.pack("<HH", 2, 2)
    path.write_bytes(data)
    with pytest.raises(FileError, match="subsampled by 2x2"):
        magnetite.read(path)


def test_ranges_of_ycbcr_are_those_of_the_tags(tmp_path: Path) -> None:
    """TIFF 6.0, section 21: full range = (code - black) coding range / (white - black)."""
    rng = np.random.default_rng(4)
    coded = rng.integers(60, 190, (24, 40, 3)).astype(np.uint16) * 256
    ends = 4096, 60160, 32768, 61440, 32768, 61440
    path = tmp_path / "y.tif"
    tag = (532, "2I", 6, tuple(n for end in ends for n in (end, 1)), True)
    tifffile.imwrite(path, coded, photometric="ycbcr", extratags=[tag])
    black, white = np.array(ends[::2], float), np.array(ends[1::2], float)
    y, blue, red = np.moveaxis((coded - black) / (white - black) * [65535, 32767, 32767], 2, 0)
    r, b = y + 1.402 * red, y + 1.772 * blue
    g = (y - 0.299 * r - 0.114 * b) / 0.587
    expected = np.rint(np.stack([r, g, b], axis=2)).clip(0, 65535)
    assert np.abs(magnetite.read(path).samples - expected).max() <= 1


def test_colours_assumed_are_in_the_heading(run: Run, tmp_path: Path) -> None:
    png_with(tmp_path / "a.png", (b"gAMA", struct.pack(">I", 100_000)))
    done = run("score", "a.png", "a.png", "--metrics", "delta-e")
    assert "colours taken as sRGB, white D65" in done.stdout
    assert "declares linear light (a gamma of 1)" in done.stderr
    assert "sRGB" not in run("score", "a.png", "a.png", "--metrics", "psnr").stdout


def test_float_samples_are_clipped_where_that_is_asked(run: Run, tmp_path: Path) -> None:
    bright = np.full((40, 50), 0.9, np.float32)
    magnetite.write(magnetite.Picture(bright, None, "gray", "x"), tmp_path / "f.npy")
    step = ("degrade", "f.npy", "o.npy", "gaussian-noise", "sd=20%")
    for rule, largest, said in (((), 1.2, "beyond full scale"), (("--overflow", "clip"), 1.0,
                                "clipped at full scale"), (("--overflow", "keep"), 1.2,
                                "beyond full scale")):  # fmt: skip
        done = run(*step, *rule)
        assert said in done.stdout
        assert (np.load(tmp_path / "o.npy").max() > 1) == (largest > 1)
    assert "leave the range" in run(*step, "--overflow", "fail", status=2).stderr
