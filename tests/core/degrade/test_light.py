"""Pictures that state whether their samples are linear or encoded, and what follows from it."""

from __future__ import annotations

import pickle
import struct
import zlib
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image, ImageCms

import magnetite
from conftest import Run
from magnetite.core.operations.degrade import degrading
from magnetite.core.picture import Picture, as_picture
from magnetite.files.row_access import open_rows

RAMP = np.tile(np.arange(40, 200, dtype=np.uint8), (40, 1))
ADVICE = "is right in linear light"


@pytest.mark.parametrize(
    ("chunks", "light"),
    [
        ([], "unknown"),
        ([(b"sRGB", b"\0")], "encoded"),
        ([(b"gAMA", struct.pack(">I", 100_000))], "linear"),
        ([(b"gAMA", struct.pack(">I", 45_455))], "encoded"),
        ([(b"gAMA", struct.pack(">I", 100_000)), (b"sRGB", b"\0")], "encoded"),
        ([(b"sRGB", b"\0"), (b"cICP", bytes([1, 8, 0, 1]))], "linear"),
        ([(b"cICP", bytes([9, 16, 0, 1]))], "encoded"),
    ],
)
def test_chunks_of_a_png_state_it(
    tmp_path: Path, chunks: list[tuple[bytes, bytes]], light: str
) -> None:
    path = tmp_path / "one.png"
    Image.fromarray(RAMP).save(path)
    data = path.read_bytes()
    for name, body in chunks:
        sum32 = struct.pack(">I", zlib.crc32(name + body))
        data = data[:33] + struct.pack(">I", len(body)) + name + body + sum32 + data[33:]
    path.write_bytes(data)
    picture = magnetite.read(path)
    assert picture.light == picture.frame.light == light
    assert np.array_equal(picture.samples, RAMP)
    assert pickle.loads(pickle.dumps(picture)).light == light
    assert picture.part(slice(3, 9)).light == light
    assert picture.digest() == as_picture(RAMP).digest()


def icc_profile(gamma: float) -> bytes:
    """A profile of RGB with one exponent (ICC.1:2001-04): the bytes, by the specification."""
    xyz = {
        b"wtpt": (0.9642, 1.0, 0.8249), b"rXYZ": (0.436, 0.2225, 0.0139),
        b"gXYZ": (0.3851, 0.7169, 0.0971), b"bXYZ": (0.1431, 0.0606, 0.7139),
    }  # fmt: skip
    tags = {
        name: b"XYZ \0\0\0\0" + struct.pack(">3i", *(round(65536 * v) for v in values))
        for name, values in xyz.items()
    }
    curve = struct.pack(">4sIIH", b"curv", 0, 1, round(256 * gamma)) + b"\0\0"
    tags |= dict.fromkeys((b"rTRC", b"gTRC", b"bTRC"), curve)
    tags[b"desc"] = struct.pack(">4sII4s", b"desc", 0, 4, b"own\0") + bytes(78)
    tags[b"cprt"] = b"text\0\0\0\0none\0\0\0\0"
    position, table, body = 128 + 4 + 12 * len(tags), b"", b""
    for name, data in tags.items():
        table += struct.pack(">4sII", name, position + len(body), len(data))
        body += data + bytes(-len(data) % 4)
    header = struct.pack(">II I4s4s4s 12s4s", position + len(body), 0, 0x02100000, b"mntr",
                         b"RGB ", b"XYZ ", bytes(12), b"acsp")  # fmt: skip
    header = header.ljust(68, b"\0") + struct.pack(">3i", 63190, 65536, 54061)
    return header.ljust(128, b"\0") + struct.pack(">I", len(tags)) + table + body


@pytest.mark.parametrize("ending", ["png", "tif", "jpg", "webp"])
def test_profiles_state_it(tmp_path: Path, ending: str) -> None:
    path = tmp_path / f"one.{ending}"
    rgb = Image.fromarray(np.stack([RAMP] * 3, axis=-1))
    srgb = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    for profile, light in (
        (icc_profile(1), "linear"), (icc_profile(1.1), "encoded"), (icc_profile(2.2), "encoded"),
        (srgb, "encoded"), (b"no profile", "encoded" if ending == "jpg" else "unknown"),
    ):  # fmt: skip
        rgb.save(path, icc_profile=profile)
        assert magnetite.read(path).light == light
        rows = open_rows(path)
        assert rows is None or rows.frame.light == light


@pytest.mark.parametrize("dtype", [np.uint8, np.uint16])
def test_transfer_functions_of_tiff_state_it(tmp_path: Path, dtype: type) -> None:
    count, path = np.iinfo(dtype).max + 1, tmp_path / "one.tif"
    share = np.linspace(0, 1, count)
    for curve, light in ((share, "linear"), (share**1.1, "encoded"), (share**2.2, "encoded")):
        table = tuple(np.rint(65535 * curve).astype(int).tolist())
        tifffile.imwrite(path, RAMP.astype(dtype), extratags=[(301, "H", count, table, True)])
        assert magnetite.read(path).light == light
        rows = open_rows(path)
        assert rows is not None
        assert rows.frame.light == rows.part(slice(1, 9)).light == light
        three = np.dstack([RAMP.astype(dtype)] * 3)
        own = tuple(np.rint(65535 * share).astype(int)) * 2 + table  # of red, green and blue
        tifffile.imwrite(path, three, photometric="rgb", extratags=[(301, "H", 3 * count, own)])
        assert magnetite.read(path).light == light
    linear = magnetite.degrade(RAMP.astype(dtype), "to-linear standard=srgb").picture
    magnetite.write(linear, path)
    assert magnetite.read(path).light == "linear"
    assert magnetite.read(path).same_samples(linear)
    with Image.open(path) as image:  # by a second reader
        assert image.tag_v2[301][:: count // 4] == tuple(65535 * k * (count // 4) // (count - 1)
                                                         for k in range(4))  # fmt: skip


def test_steps_state_it_and_files_keep_it(tmp_path: Path) -> None:
    for chain, light, gamma in (
        ("to-linear standard=srgb", "linear", 1.0),
        ("to-linear exponent=2 + gaussian-noise sd=1%", "linear", 1.0),
        ("to-linear standard=srgb + to-encoded standard=bt709", "encoded", None),
        ("gaussian-noise sd=1%", "unknown", None),
    ):
        job = degrading(RAMP, chain)
        (picture,) = job
        assert job.frame.light == picture.light == light
        magnetite.write(picture, tmp_path / "two.png")
        with Image.open(tmp_path / "two.png") as image:
            assert image.info.get("gamma") == gamma
        again = magnetite.read(tmp_path / "two.png")
        assert again.light == (light if gamma else "unknown")
        assert again.same_samples(picture)
    for bits in (8, 12):
        deep = Picture(RAMP.astype(np.uint8 if bits == 8 else np.uint16), bits, "gray")
        linear = magnetite.degrade(deep, "to-linear standard=srgb").picture
        magnetite.write(linear, tmp_path / "three.png")
        again = magnetite.read(tmp_path / "three.png")
        assert (again.bits, again.light) == (bits, "linear")
    assert magnetite.restore(linear, "median").picture.light == "linear"


def test_sensor_noise_on_encoded_samples_is_said(run: Run, tmp_path: Path) -> None:
    Image.fromarray(RAMP).save(tmp_path / "camera.jpg", quality=95)
    Image.fromarray(RAMP).save(tmp_path / "plain.png")
    noise = ["sensor-noise", "full-well=9000e"]
    assert ADVICE in run("degrade", "camera.jpg", "a.png", *noise).stderr
    whole = "to-linear standard=srgb + sensor-noise full-well=9000e + to-encoded standard=srgb"
    assert ADVICE not in run("degrade", "camera.jpg", "a.png", *whole.split()).stderr
    assert ADVICE not in run("degrade", "plain.png", "a.png", *noise).stderr
    late = ["to-encoded", "standard=srgb", "+", "sensor-noise", "full-well=9000e"]
    assert ADVICE in run("degrade", "plain.png", "a.png", *late).stderr


def test_calibrations_and_mtf_of_encoded_pictures_are_said(run: Run, tmp_path: Path) -> None:
    chart = magnetite.scenes((320, 224))["chart-plate"]
    for seed in (1, 2):
        frame = magnetite.degrade(chart, "sensor-noise full-well=3000e", seed=seed).picture
        Image.fromarray(frame.samples).save(tmp_path / f"{seed}.jpg", quality=100, subsampling=0)
        magnetite.write(frame, tmp_path / f"{seed}.png")
    for ending, said in (("jpg", True), ("png", False)):
        one, two = f"1.{ending}", f"2.{ending}"
        for words in (
            ["calibrate", "noise", one, two],
            ["calibrate", "blur", one],
            ["gauge", one, "--metrics", "mtf50"],
        ):
            assert ("are right in linear light" in run(*words).stderr) is said
