"""Compressed streams and pictures that would cost minutes or gigabytes, under limits."""

from __future__ import annotations

import io
import itertools
import resource
import struct
import subprocess
import sys
import zlib
from pathlib import Path

import numpy as np
import pytest

import magnetite
from magnetite.core.codecs.layers import headers
from magnetite.core.codecs.layers.container import Header, Stream, read_header
from magnetite.core.errors import LimitError, StreamError
from magnetite.core.picture import as_picture
from magnetite.core.picture.frame import Frame

#: Seconds and bytes of memory that a refusal may take.
SECONDS, MEMORY = 20, 1_500_000_000
LARGE = Frame(16384, 16384, 1, "gray", 8)


def stream(step: str, frame: Frame = LARGE, sections: int = 1, section: bytes = b"abcdef") -> bytes:
    return Stream(frame, step, [section] * sections).pack()


def png_header(width: int, height: int, depth: int = 16, colour_type: int = 2) -> bytes:
    def chunk(name: bytes, body: bytes) -> bytes:
        return (
            struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))
        )

    head = struct.pack(">IIBBBBB", width, height, depth, colour_type, 0, 0, 0)
    parts = chunk(b"IHDR", head), chunk(b"IDAT", zlib.compress(b"")), chunk(b"IEND", b"")
    return b"\x89PNG\r\n\x1a\n" + b"".join(parts)


def npy(dtype: str, shape: str) -> bytes:
    header = f"{{'descr': {dtype!r}, 'fortran_order': False, 'shape': {shape}, }}"
    header = header.ljust(117) + "\n"
    return b"\x93NUMPY\x01\x00" + struct.pack("<H", len(header)) + header.encode()


def jpeg2000_header(side: int) -> bytes:
    whole = magnetite.compress(np.zeros((8, 8), np.uint8), "jpeg2000 psnr=40dB").data
    code = whole[whole.index(b"\xff\x4f\xff\x51") :]
    return code[:8] + struct.pack(">II", side, side) + code[16:]


HOSTILE = {
    "dct": stream("dct step=5%"),
    "dct, large blocks": stream("dct step=5% block=4096"),
    "dct, zlib": stream("dct step=5% backend=zlib"),
    "dct, some bytes": stream("dct step=5%", section=bytes(range(256)) * 40),
    "predictive": stream("predictive"),
    "predictive, some bytes": stream("predictive", section=bytes(range(256)) * 40),
    "pcm": stream("pcm bits=3"),
    "bit planes": stream("bit-planes keep=3", sections=3),
    "bit planes, some bytes": stream("bit-planes keep=1", section=bytes(range(1, 256)) * 40),
    "svd": stream("svd rank=3", sections=3),
    "pca": stream("pca components=3", sections=4),
    "millions of planes": stream("dct step=5%", Frame(4, 4, 2**24, "planes", 8)),
    "many planes": stream("dct step=5%", Frame(4, 4, 100_000, "planes", 8)),
    "three ranges": stream("dct step=1..999%/1% zone=0..1/0.001 keep=0..1/0.001"),
    "auto": stream("dct step=auto"),
    "jpeg2000 of another size": stream("jpeg2000 psnr=40dB", section=jpeg2000_header(60_000)),
    "png of another size": stream("png", section=png_header(60_000, 60_000)),
    "16-bit PNG": png_header(40_000, 40_000),
    "JPEG 2000": jpeg2000_header(60_000),
    "PGM": b"P5\n90000 90000\n255\n",
    "plain PGM": b"P2\n999999999 999999999\n255\n1",
    "NPY without size": npy("|V0", "(100000, 100000)"),
    "NPY of objects": npy("|O", "(3, 3)"),
    "NPY": npy("|u1", "(90000, 90000)"),
}


def limited() -> None:
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))


@pytest.mark.parametrize(
    "name",
    [pytest.param(name, marks=[pytest.mark.long] * (k % 6 > 0)) for k, name in enumerate(HOSTILE)],
)
def test_a_few_bytes_cost_little(name: str, tmp_path: Path) -> None:
    (tmp_path / "hostile").write_bytes(HOSTILE[name])
    code = "import sys, magnetite.core.operations.compress\nfrom magnetite.cli import main\nmain()"
    done = subprocess.run(
        [sys.executable, "-c", code, "--threads", "1", "gauge", "hostile"],
        cwd=tmp_path, capture_output=True, text=True, timeout=SECONDS, preexec_fn=limited,
    )  # fmt: skip
    assert done.returncode == 2, done.stderr
    assert done.stderr.count("\n") == 1, "one clear line"
    assert done.stderr.startswith("magnetite: ")


def test_one_limit_for_every_format(tmp_path: Path) -> None:
    samples = np.zeros((40, 50), np.uint8)
    picture = magnetite.Picture(samples, 8, "gray")
    (tmp_path / "p.mgt").write_bytes(magnetite.compress(picture, "dct step=8dn").data)
    for ending in ("png", "tif", "jpg", "bmp", "pgm", "npy", "jp2"):
        magnetite.write(picture, tmp_path / f"p.{ending}")
    for path in sorted(tmp_path.glob("p.*")):
        assert magnetite.read(path, max_samples=2000).samples.shape == (40, 50)
        with pytest.raises(LimitError, match="declares 2000 samples; at most 1999 are read"):
            magnetite.read(path, max_samples=1999)


def test_devices_are_not_read() -> None:
    with pytest.raises(ValueError, match="is a device"):
        magnetite.read("/dev/zero")
    with pytest.raises(ValueError, match="is a device"):
        magnetite.read("/dev/null")


@pytest.mark.parametrize(
    ("step", "size"),
    [
        ("jpeg quality=50", headers.jpeg_size), ("jpeg2000 psnr=40dB", headers.jpeg2000_size),
        ("jpeg-xl distance=1", headers.jpeg_xl_size), ("jpeg-ls", headers.jpeg_size),
        ("webp quality=50", headers.webp_size), ("avif quality=50", headers.avif_size),
        ("png", headers.png_size),
    ],
)  # fmt: skip
def test_headers_tell_the_size(step: str, size: headers.Reader) -> None:
    rng = np.random.default_rng(0)
    for height, width in ((8, 8), (37, 53), (64, 96), (1, 700)):
        for shape in ((height, width), (height, width, 3)):
            samples = rng.integers(0, 256, shape, np.uint8)
            try:
                coded = magnetite.compress(samples, step)
            except ValueError:
                continue  # too small for this format
            from magnetite.core.codecs.layers.container import unpack

            (section,) = unpack(coded.data).sections
            assert headers.size_of(size, section)[:2] == (height, width)
            with pytest.raises(StreamError, match="damaged"):
                magnetite.expand(
                    Stream(
                        Frame(height + 1, width, coded.picture.channels, coded.picture.colour, 8),
                        step, [section],
                    ).pack()
                )  # fmt: skip
            for cut in (len(section) // 2, len(section) - 2):
                with pytest.raises(StreamError):
                    magnetite.expand(
                        Stream(
                            Frame(height, width, coded.picture.channels, coded.picture.colour, 8),
                            step, [section[:cut]],
                        ).pack()
                    )  # fmt: skip


def test_narrow_noise_is_written_and_coded(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    for width in (1, 2, 3):
        for shape in ((2000, width), (2000, width, 3)):
            for dtype in (np.uint8, np.uint16):
                samples = rng.integers(0, np.iinfo(dtype).max, shape, dtype, endpoint=True)
                magnetite.write(magnetite.core.picture.as_picture(samples), tmp_path / "n.png")
                assert (magnetite.read(tmp_path / "n.png").samples == samples).all()
                assert (magnetite.compress(samples, "png").picture.samples == samples).all()


def test_transparent_colours_of_16_bits_leave_gray_gray(tmp_path: Path) -> None:
    import imagecodecs

    for samples in (np.arange(64, dtype=np.uint16).reshape(8, 8) * 999,
                    np.arange(192, dtype=np.uint16).reshape(8, 8, 3) * 321):  # fmt: skip
        data = bytes(imagecodecs.png_encode(samples))
        body = struct.pack(">H", 999) * (3 if samples.ndim == 3 else 1)
        chunk = struct.pack(">I", len(body)) + b"tRNS" + body
        chunk += struct.pack(">I", zlib.crc32(b"tRNS" + body))
        at = data.index(b"IDAT") - 4
        (tmp_path / "t.png").write_bytes(data[:at] + chunk + data[at:])
        picture = magnetite.read(tmp_path / "t.png")
        assert picture.colour == ("gray" if samples.ndim == 2 else "rgb")
        assert (picture.samples == samples).all()
        assert "alpha channel set aside" in picture.notes[0]


def test_orientation_of_tiff_and_jpeg_2000_with_opacity(tmp_path: Path) -> None:
    import imagecodecs
    from PIL import Image, ImageOps

    samples = np.random.default_rng(0).integers(0, 255, (5, 9, 3), np.uint8)
    for turn in range(1, 9):
        image = Image.fromarray(samples)
        buffer = io.BytesIO()
        image.save(buffer, "TIFF", tiffinfo={274: turn})
        (tmp_path / "t.tif").write_bytes(buffer.getvalue())
        upright = np.asarray(ImageOps.exif_transpose(Image.open(io.BytesIO(buffer.getvalue()))))
        assert (magnetite.read(tmp_path / "t.tif").samples == upright).all(), turn
    four = np.random.default_rng(0).integers(0, 65535, (16, 16, 4), np.uint16)
    (tmp_path / "a.jp2").write_bytes(imagecodecs.jpeg2k_encode(four, level=0, reversible=True))
    picture = magnetite.read(tmp_path / "a.jp2")
    assert picture.colour == "rgb"
    assert (picture.samples == four[..., :3]).all()


def test_damaged_metadata_is_nobodys_business(
    tmp_path: Path, capfd: pytest.CaptureFixture[str]
) -> None:
    """Decoder libraries complain of it on standard error, in front of our own messages."""
    import imagecodecs
    from PIL import Image

    for samples in (np.zeros((9, 9), np.uint16), np.zeros((9, 9, 3), np.uint8)):
        data = bytes(imagecodecs.png_encode(samples))
        at = data.index(b"IDAT") - 4
        for name, body in ((b"iCCP", b"x\0\0broken"), (b"gAMA", b"\0"), (b"eXIf", b"II*\0rubbish")):
            chunk = struct.pack(">I", len(body)) + name + body
            chunk += struct.pack(">I", zlib.crc32(name + body))
            (tmp_path / "p.png").write_bytes(data[:at] + chunk + data[at:])
            assert magnetite.read(tmp_path / "p.png").samples.shape == samples.shape
    exif = b"Exif\0\0II*\0\x08\0\0\0\xff\xff\x12\x01\x03\0\xff\xff\xff\xff"
    Image.new("L", (9, 9)).save(tmp_path / "p.jpg", exif=exif)
    assert magnetite.read(tmp_path / "p.jpg").samples.shape == (9, 9)
    assert capfd.readouterr().err == ""


OTHERS = (
    "wavelet step=9dn", "wavelet step=1dn filter=5/3", "dct step=9dn", "dct block=16 step=9dn",
    "predictive", "pcm bits=4", "bit-planes keep=3", "svd rank=3", "pca components=3",
    "fourier keep=5%",
)  # fmt: skip


@pytest.mark.parametrize("own", OTHERS)
def test_steps_that_do_not_fit_their_sections(own: str) -> None:
    """The header names another step, or another frame: decoded to that frame, or refused."""
    rng = np.random.default_rng(0)
    pictures = [
        as_picture(rng.integers(0, 255, shape).astype(dtype))
        for shape, dtype in (((40, 48), np.uint8), ((40, 48, 3), np.uint8), ((33, 47), np.uint16))
    ]
    refused = 0
    for picture in pictures:
        data = magnetite.compress(picture, own).data
        header, start = read_header(data)
        for other, frame in itertools.product(OTHERS, (p.frame for p in pictures)):
            changed = Header(frame, other, header.lengths, header.checksum).pack() + data[start:]
            try:
                assert magnetite.expand(changed).frame == frame
            except StreamError:
                refused += 1
    assert refused > 50
