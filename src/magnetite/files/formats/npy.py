"""Arrays of NumPy."""

from __future__ import annotations

import io
import math
from collections.abc import Iterator
from itertools import chain
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from magnetite.core.errors import FileError
from magnetite.core.picture import Frame, Picture
from magnetite.files.formats._format import ANY, Decoded, Format

MARKS = (b"\x93NUMPY",)


def read_header(file: BinaryIO) -> tuple[tuple[int, ...], bool, np.dtype[Any]]:
    """Shape, whether columns come first, and type; the file is then at its first sample."""
    version = np.lib.format.read_magic(file)
    read = np.lib.format.read_array_header_1_0
    return (read if version == (1, 0) else np.lib.format.read_array_header_2_0)(file)


def _declared(data: bytes) -> int:
    file = io.BytesIO(data)
    shape, _, dtype = read_header(file)
    if dtype.kind not in "buif" or dtype.itemsize == 0:
        raise FileError(f"an NPY file with samples of type {dtype} is not a picture")
    count = math.prod(shape)
    if len(data) - file.tell() < count * dtype.itemsize:
        raise FileError("the NPY file is truncated")
    return count


def _decode(data: bytes) -> Decoded:
    array = np.load(io.BytesIO(data), allow_pickle=False)
    return Decoded(array.astype(array.dtype.newbyteorder("=")))


def _encode(picture: Picture) -> bytes:
    buffer = io.BytesIO()
    np.save(buffer, np.ascontiguousarray(picture.samples), allow_pickle=False)
    return buffer.getvalue()


def _stream(path: Path, frame: Frame, bands: Iterator[Picture]) -> None:
    first = next(bands)
    descr = np.lib.format.dtype_to_descr(first.samples.dtype)
    header = {"descr": descr, "fortran_order": False, "shape": frame.shape}
    with open(path, "wb") as file:
        np.lib.format.write_array_header_1_0(file, header)
        for picture in chain([first], bands):
            np.ascontiguousarray(picture.samples).tofile(file)


FORMATS = (
    Format(
        "NPY", (".npy",), MARKS, _declared, _decode, _encode, ANY,
        floats=True, planes=True, keeps_depth=False, stream=_stream, rank=2,
    ),
)  # fmt: skip
