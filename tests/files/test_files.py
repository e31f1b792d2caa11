"""Reading and writing: nothing lost, nothing converted without a word."""

from __future__ import annotations

import os
import warnings
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest
import tifffile
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

import magnetite
from conftest import sample_pictures, texture
from magnetite.core.errors import ChainError, FileError, PictureError
from magnetite.core.picture import Picture, as_picture, luma
from magnetite.files.formats import by_ending
from magnetite.files.pairs import pairs_of
from magnetite.files.writing import encoded

LOSSLESS = [suffix for suffix, kind in by_ending().items() if kind.lossless]


@st.composite
def any_picture(draw: st.DrawFn) -> Picture:
    bits = draw(st.integers(1, 16))
    channels = draw(st.sampled_from([1, 3, 5]))
    shape = (draw(st.integers(1, 9)), draw(st.integers(1, 9)), channels)
    rng = np.random.default_rng(draw(st.integers(0, 99)))
    samples = rng.integers(0, 2**bits, shape).astype(np.uint8 if bits <= 8 else np.uint16)
    colour = {1: "gray", 3: "rgb", 5: "planes"}[channels]
    return Picture(samples[..., 0] if channels == 1 else samples, bits, colour)


@pytest.mark.parametrize("suffix", LOSSLESS)
@given(picture=any_picture())
def test_what_a_format_holds_comes_back_exactly(suffix: str, picture: Picture) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"picture{suffix}"
        if not by_ending()[suffix].holds(picture):
            with pytest.raises(FileError, match=r"cannot hold a picture of .*; write \."):
                magnetite.write(picture, path)
            assert not path.exists()
            return
        magnetite.write(picture, path)
        scale = picture.full_scale if suffix == ".npy" else None
        if suffix == ".webp" and picture.colour == "rgb" and np.ptp(picture.samples, 2).max() == 0:
            return  # equal channels are read as gray, and said to be
        again = magnetite.read(path, full_scale=scale)
    assert again.same_samples(picture)
    assert again.colour == picture.colour


def test_float_pictures_keep_values_beyond_the_range(tmp_path: Path) -> None:
    picture = as_picture(np.array([[-0.5, 0.25], [1.75, 1.0]], np.float32))
    for name in ("f.tif", "f.npy"):
        magnetite.write(picture, tmp_path / name)
        assert magnetite.read(tmp_path / name).same_samples(picture)


def test_alpha_is_set_aside_and_said(tmp_path: Path) -> None:
    rgba = (texture(7, 9, 4) * 255).astype(np.uint8)
    Image.fromarray(rgba, "RGBA").save(tmp_path / "a.png")
    picture = magnetite.read(tmp_path / "a.png")
    assert picture.colour == "rgb"
    np.testing.assert_array_equal(picture.samples, rgba[..., :3])
    np.testing.assert_array_equal(picture.alpha, rgba[..., 3])
    assert "alpha channel set aside" in picture.notes[0]


@pytest.mark.parametrize("orientation", range(1, 9))
def test_exif_orientation_is_applied(tmp_path: Path, orientation: int) -> None:
    from PIL import ImageOps

    exif = Image.Exif()
    exif[274] = orientation
    image = Image.fromarray((texture(6, 9, 3) * 255).astype(np.uint8))
    image.save(tmp_path / "turned.png", exif=exif)
    with Image.open(tmp_path / "turned.png") as stored:
        upright = ImageOps.exif_transpose(stored)
    picture = magnetite.read(tmp_path / "turned.png")
    np.testing.assert_array_equal(picture.samples, np.asarray(upright))
    assert bool(picture.notes) == (orientation != 1)


def test_palette_and_cmyk_are_converted_and_said(tmp_path: Path) -> None:
    image = Image.fromarray((texture(16, 16, 3) * 255).astype(np.uint8))
    image.quantize(16).save(tmp_path / "palette.png")
    image.convert("CMYK").save(tmp_path / "cmyk.jpg")
    palette, cmyk = (magnetite.read(tmp_path / n) for n in ("palette.png", "cmyk.jpg"))
    assert palette.colour == cmyk.colour == "rgb"
    assert palette.notes == ("palette converted to RGB",)
    assert cmyk.notes == ("CMYK converted to RGB",)


@pytest.mark.parametrize("name", ["frames.png", "frames.webp"])
def test_the_first_frame_is_taken_and_said(tmp_path: Path, name: str) -> None:
    frames = [Image.fromarray((texture(16, 16, 3) * k).astype(np.uint8)) for k in (250, 150, 90)]
    frames[0].save(tmp_path / name, save_all=True, append_images=frames[1:], lossless=True)
    picture = magnetite.read(tmp_path / name)
    np.testing.assert_array_equal(picture.samples, np.asarray(frames[0]))
    assert picture.notes == ("first of 3 frames taken",)


@pytest.mark.parametrize("channels", [2, 4])
def test_alpha_of_16_bits_is_set_aside(tmp_path: Path, channels: int) -> None:
    import imagecodecs

    samples = (texture(7, 9, channels) * 65535).astype(np.uint16)
    (tmp_path / "deep.png").write_bytes(imagecodecs.png_encode(samples))
    picture = magnetite.read(tmp_path / "deep.png")
    assert (picture.bits, picture.colour) == (16, "gray" if channels == 2 else "rgb")
    np.testing.assert_array_equal(picture.alpha, samples[..., -1])
    colour = samples[..., 0] if channels == 2 else samples[..., :3]
    np.testing.assert_array_equal(picture.samples, colour)


def test_tiff_of_other_kinds_is_converted_and_said(tmp_path: Path) -> None:
    samples = (texture(8, 9) * 255).astype(np.uint8)
    path = tmp_path / "kind.tif"
    for stored, top in ((samples, 255), (257 * samples.astype(np.uint16), 65535)):
        tifffile.imwrite(path, stored, photometric="miniswhite")
        picture = magnetite.read(path)
        np.testing.assert_array_equal(picture.samples, top - stored)
        assert picture.notes == ("white-is-zero inverted",)
    tifffile.imwrite(path, texture(8, 9), photometric="miniswhite")
    with pytest.raises(FileError, match="white as 0 is read with 1 to 16 bits only"):
        magnetite.read(path)
    table = np.random.default_rng(0).integers(0, 65536, (3, 256)).astype(np.uint16)
    tifffile.imwrite(path, samples, photometric="palette", colormap=table)
    picture = magnetite.read(path)
    np.testing.assert_array_equal(picture.samples, np.moveaxis(table[:, samples], 0, -1))
    assert picture.notes == ("palette converted to RGB",)
    tifffile.imwrite(path, np.stack([samples] * 3), photometric="minisblack")
    stack = magnetite.read(path)
    assert (stack.colour, stack.notes) == ("planes", ("3 pages read as a stack of planes",))
    np.testing.assert_array_equal(stack.samples, np.stack([samples] * 3, axis=-1))
    with tifffile.TiffWriter(path) as tiff:
        tiff.write(samples)
        tiff.write(samples[::2])
    assert magnetite.read(path).notes == ("first of 2 pages taken",)


def test_kernels_come_from_pictures_and_arrays(tmp_path: Path) -> None:
    weights = np.array([[0, 2, 0], [2, 8, 2], [0, 2, 0]], np.uint8)
    np.save(tmp_path / "k.npy", weights.astype(np.int64))
    magnetite.write(as_picture(weights), tmp_path / "k.png")
    spot = np.zeros((5, 5))
    spot[2, 2] = 0.8
    for name in ("k.npy", "k.png"):
        spread = magnetite.degrade(spot, f"psf-blur kernel={tmp_path / name}").picture.samples
        np.testing.assert_allclose(spread[1:4, 1:4], 0.8 * weights / 16, atol=1e-9)
    np.save(tmp_path / "cube.npy", np.ones((2, 2, 2)))
    with pytest.raises(ChainError, match="a kernel is one gray plane"):
        magnetite.degrade(spot, f"psf-blur kernel={tmp_path / 'cube.npy'}")


def test_depth_comes_from_the_file_or_from_the_user(tmp_path: Path) -> None:
    samples = (texture(8, 9) * 4095).astype(np.uint16)
    np.save(tmp_path / "raw.npy", samples)
    assert magnetite.read(tmp_path / "raw.npy").bits == 16
    assert magnetite.read(tmp_path / "raw.npy", full_scale=4095).bits == 12
    with pytest.raises(FileError, match="outside 0 to 1023"):
        magnetite.read(tmp_path / "raw.npy", full_scale=1023)
    with pytest.raises(FileError, match="not 2\\^bits - 1"):
        magnetite.read(tmp_path / "raw.npy", full_scale=4000)
    np.save(tmp_path / "float.npy", texture(8, 9) * 255)
    with pytest.raises(FileError, match="name theirs, as in --full-scale 255"):
        magnetite.read(tmp_path / "float.npy")
    assert magnetite.read(tmp_path / "float.npy", full_scale=255).samples.max() <= 1
    np.save(tmp_path / "long.npy", samples.astype(np.int64))
    with pytest.raises(PictureError, match="int64 have no known full scale"):
        magnetite.read(tmp_path / "long.npy")
    (tmp_path / "odd.pgm").write_bytes(b"P2 # plain\n3 1\n100\n0 50 100\n")
    odd = magnetite.read(tmp_path / "odd.pgm")
    np.testing.assert_allclose(odd.samples, [[0, 0.5, 1]])
    assert "not 2^bits - 1" in odd.notes[0]


def test_arrays_of_any_byte_order_are_the_same_picture_and_masked_ones_are_refused() -> None:
    samples = (texture(9, 12) * 65535).astype(np.uint16)
    for same in (samples, samples.astype(">u2"), samples.astype("<u2"), np.ma.array(samples)):
        assert as_picture(same).digest() == as_picture(samples).digest()
        assert magnetite.score(samples, same, "mse")["mse"] == 0
    with pytest.raises(PictureError, match="masked samples have no value"):
        magnetite.gauge(np.ma.array(samples, mask=samples > 30000), "mean")


def test_jpeg_says_what_it_lost(tmp_path: Path) -> None:
    (message,) = magnetite.write(sample_pictures()["rgb 8"], tmp_path / "lossy.jpg")
    assert "JPEG is lossy" in message
    assert magnetite.read(tmp_path / "lossy.jpg").colour == "rgb"


def test_pictures_are_read_by_many_threads(tmp_path: Path) -> None:
    """Standard error and the limits of the decoder are the process's own, and stay as they were."""
    picture = as_picture((texture(24, 32) * 255).astype(np.uint8))
    for ending in ("jp2", "png"):
        magnetite.write(picture, tmp_path / f"a.{ending}")

    def settings() -> tuple[object, ...]:
        return os.fstat(2).st_dev, os.fstat(2).st_ino, Image.MAX_IMAGE_PIXELS, warnings.filters[:]

    before = settings()
    names = [tmp_path / f"a.{ending}" for ending in ("jp2", "png")] * 150
    for _ in range(3):
        with ThreadPoolExecutor(12) as pool:
            assert all(one.same_samples(picture) for one in pool.map(magnetite.read, names))
    assert settings() == before


def test_bytes_of_a_file_need_no_folder(tmp_path: Path) -> None:
    """Rows of a run and parts of a page are encoded in any working folder."""
    picture = as_picture((texture(9, 12) * 255).astype(np.uint8))
    magnetite.write(picture, tmp_path / "a.png")
    assert encoded(picture, tmp_path / "absent" / "a.png")[0] == (tmp_path / "a.png").read_bytes()
    with pytest.raises(FileError, match=r"the folder .* does not exist"):
        magnetite.write(picture, tmp_path / "absent" / "a.png")


def test_a_failed_write_leaves_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    import os

    path = tmp_path / "kept.png"
    path.write_bytes(b"before")

    def refuse(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "replace", refuse)
    with pytest.raises(FileError, match="No space left on device"):
        magnetite.write(sample_pictures()["gray 8"], path)
    assert path.read_bytes() == b"before"
    assert list(tmp_path.iterdir()) == [path]


def test_pictures_are_read_only_and_clip_without_wrapping() -> None:
    source = np.array([[0, 128, 255]], np.uint8)
    picture = as_picture(source)
    with pytest.raises(ValueError, match="read-only"):
        picture.samples[0, 0] = 1
    stored, clipped = picture.with_pixels(np.array([[-0.3, 0.5, 1.3]]))
    assert stored.samples.tolist() == [[0, 128, 255]]
    assert (clipped.low, clipped.high, clipped.share) == (1, 1, pytest.approx(2 / 3))


def test_luma_is_bt601() -> None:
    colours = np.eye(3).reshape(1, 3, 3)
    np.testing.assert_allclose(luma(colours), [[0.299, 0.587, 0.114]])
    gray = as_picture(np.full((2, 2, 3), 77, np.uint8)).luma()
    assert (gray.samples == 77).all()
    assert gray.colour == "gray"


def test_files_without_a_partner_are_named_for_every_folder(tmp_path: Path) -> None:
    kept = {"refs": "abc", "one": "abx", "two": "acy"}
    for folder, names in kept.items():
        (tmp_path / folder).mkdir()
        for name in names:
            (tmp_path / folder / f"{name}.png").touch()
    refs, one, two = (tmp_path / folder for folder in kept)
    pairs, alone = pairs_of(refs, [one, two])
    found = [(a.name, b.parent.name, b.name) for a, b in pairs]
    assert found == [("a.png", "one", "a.png"), ("a.png", "two", "a.png"),
                     ("b.png", "one", "b.png"), ("c.png", "two", "c.png")]  # fmt: skip
    assert alone == {one: [f"{refs}/c.png"], two: [f"{refs}/b.png"],
                     refs: [f"{one}/x.png", f"{two}/y.png"]}  # fmt: skip
