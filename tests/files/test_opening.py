"""Files are regular, bounded and unchanged, or are refused in one line."""

from __future__ import annotations

import os
import resource
import struct
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import tifffile

import magnetite
from conftest import Run
from magnetite.core.errors import FileError, LimitError, MagnetiteError
from magnetite.files.opening import opened, read_bytes
from magnetite.files.row_access import open_rows

RAMP = (np.arange(128 * 64) % 251).astype(np.uint8).reshape(128, 64)


@pytest.mark.parametrize("words", [
    ("gauge", "{}"), ("score", "g.png", "{}"), ("expand", "{}", "o.png"),
    ("degrade", "g.png", "o.png", "psf-blur", "kernel={}"), ("gate", "check", "{}", "g.png"),
    ("gate", "fit", "{}"), ("run", "{}", "--dry"), ("--commands", "{}", "methods"),
    ("gauge", "g.png", "--metrics", "naturalness model={}"),
])  # fmt: skip
@pytest.mark.parametrize("kind", ["pipe", "device", "folder"])
def test_only_regular_files_are_opened(
    run: Run, gray: Path, tmp_path: Path, words: tuple[str, ...], kind: str
) -> None:
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "folder").mkdir()
    name = "/dev/zero" if kind == "device" else kind
    done = run(*(word.format(name) for word in words), status=2)
    assert done.stderr.count("\n") == 1
    assert f"is a {kind}" in done.stderr.replace(":", "")
    assert not (tmp_path / "o.png").exists()


def test_reading_takes_memory_for_the_file_alone(gray: Path) -> None:
    """Also where less may be taken than the largest file that would be read."""
    done = subprocess.run(
        [sys.executable, "-c", "import magnetite; print(magnetite.read('g.png').describe())"],
        cwd=gray.parent, capture_output=True, text=True,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_AS, (3 * 2**30, 3 * 2**30)),
    )  # fmt: skip
    assert done.stdout == "80x64 gray, 8 bits\n", done.stderr


def test_errors_of_the_reader_are_its_own(gray: Path) -> None:
    with pytest.raises(ValueError, match="null and void"), opened(gray):
        raise ValueError("null and void")
    with pytest.raises(FileError, match="cannot be read"):
        read_bytes(Path("a\0b"))


def test_sizes_are_bounded(tmp_path: Path) -> None:
    path = tmp_path / "sparse.png"
    with open(path, "wb") as file:
        file.truncate(2**40)
    with pytest.raises(FileError, match="too many for a file of its kind"):
        magnetite.read(path, max_samples=1000)
    (tmp_path / "t").write_bytes(bytes(11))
    assert len(read_bytes(tmp_path / "t", 11)) == 11
    with pytest.raises(FileError, match="more than 10 bytes"):
        read_bytes(tmp_path / "t", 10)


@pytest.mark.parametrize("word", ["-1", "+1", "1_0", "1.0", "x", "9" * 30])
def test_plain_samples_are_whole_numbers(tmp_path: Path, word: str) -> None:
    path = tmp_path / "p.pgm"
    path.write_text(f"P2\n# note\n2 2\n255\n10 {word} 6 7\n")
    with pytest.raises(FileError, match="they are whole numbers"):
        magnetite.read(path)
    path.write_text("P2\n# note\n2 2\n255\n10 1 # 9 9\n6 7\n")
    assert magnetite.read(path).samples.tolist() == [[10, 1], [6, 7]]


def test_headers_of_blanks_are_refused(tmp_path: Path) -> None:
    path = tmp_path / "p.pgm"
    path.write_bytes(b"P5\n" + b" " * 2**20 + b"2 2\n255\n" + bytes(4))
    with pytest.raises(FileError, match="header of the PGM or PPM is damaged"):
        magnetite.read(path)


def test_pages_of_a_stack_count(tmp_path: Path) -> None:
    path = tmp_path / "stack.tif"
    with tifffile.TiffWriter(path) as writer:
        for _ in range(5):
            writer.write(RAMP, contiguous=False)
    assert magnetite.read(path, max_samples=5 * RAMP.size).samples.shape == (128, 64, 5)
    with pytest.raises(LimitError, match=f"declares {5 * RAMP.size} samples"):
        magnetite.read(path, max_samples=5 * RAMP.size - 1)


def _with_tag(data: bytes, tag: int, kind: int, value: bytes) -> bytes:
    """A little-endian TIFF with another type and value of a tag of its first page."""
    changed = bytearray(data)
    (start,) = struct.unpack_from("<I", data, 4)
    for entry in range(start + 2, start + 2 + 12 * struct.unpack_from("<H", data, start)[0], 12):
        if struct.unpack_from("<H", data, entry)[0] == tag:
            struct.pack_into("<H", changed, entry + 2, kind)
            changed[entry + 8 : entry + 12] = value
            return bytes(changed)
    raise KeyError(tag)


@pytest.mark.parametrize(("kind", "value"), [
    (4, struct.pack("<I", 0)), (11, struct.pack("<f", 8.0)), (11, struct.pack("<f", np.nan)),
])  # fmt: skip
@pytest.mark.parametrize(("options", "tag"), [
    ({"rowsperstrip": 8}, 278), ({"tile": (16, 16)}, 322), ({"tile": (16, 16)}, 323),
    ({"rowsperstrip": 8}, 256), ({"rowsperstrip": 8}, 257), ({"tile": (16, 16)}, 257),
])  # fmt: skip
def test_pictures_strips_and_tiles_of_no_size_or_no_whole_number(
    run: Run, tmp_path: Path, options: dict[str, object], tag: int, kind: int, value: bytes
) -> None:
    path = tmp_path / "p.tif"
    tifffile.imwrite(path, RAMP, **options)
    path.write_bytes(_with_tag(path.read_bytes(), tag, kind, value))
    assert open_rows(path) is None
    try:
        assert np.array_equal(magnetite.read(path).samples, RAMP)
    except MagnetiteError:
        assert "p.tif" in run("gauge", "p.tif", status=2).stderr


def _shorter(path: Path) -> None:
    path.write_bytes(path.read_bytes()[:-9])


def _replaced(path: Path) -> None:
    other = path.with_name("other")
    other.write_bytes(path.read_bytes())
    os.replace(other, path)


@pytest.mark.parametrize("change", [_shorter, _replaced, os.unlink])
@pytest.mark.parametrize("name", ["p.tif", "p.npy"])
def test_files_that_change_while_they_are_read(
    tmp_path: Path, name: str, change: Callable[[Path], None]
) -> None:
    path = tmp_path / name
    tifffile.imwrite(path, RAMP, rowsperstrip=8) if name == "p.tif" else np.save(path, RAMP)
    rows = open_rows(path)
    assert rows is not None
    assert np.array_equal(rows.part(slice(8, 24)).samples, RAMP[8:24])
    change(path)
    with pytest.raises(FileError, match=r"no such file|has changed while"):
        rows.part(slice(24, 40))


def test_damaged_strips_in_bands(tmp_path: Path) -> None:
    path = tmp_path / "p.tif"
    tifffile.imwrite(path, RAMP, rowsperstrip=8, compression="zlib")
    with tifffile.TiffFile(path) as tiff:
        start = tiff.pages[0].dataoffsets[3]
    data = bytearray(path.read_bytes())
    data[start : start + 6] = b"\xff" * 6
    path.write_bytes(data)
    rows = open_rows(path)
    assert rows is not None
    assert np.array_equal(rows.part(slice(0, 24)).samples, RAMP[:24])
    with pytest.raises(FileError, match="strip or tile 3 is damaged"):
        rows.part(slice(24, 32))
