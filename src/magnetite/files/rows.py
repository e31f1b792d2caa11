"""Files of which any rows can be read and written: TIFF in strips or tiles, and NPY."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.errors import FileError, PictureError
from magnetite.core.picture import Picture, as_picture, frozen
from magnetite.core.picture.frame import Colour, Frame
from magnetite.files.atomic import replacing
from magnetite.files.writing import tiff_options

_NPY = b"\x93NUMPY"
_TIFF = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")
#: Rows of a strip that is written.
_STRIP = 64


@dataclass(frozen=True)
class NpyRows:
    """An NPY file with its rows one after the other."""

    path: Path
    frame: Frame
    dtype: np.dtype[Any]
    #: Bytes before the samples.
    start: int

    @property
    def origin(self) -> str:
        return str(self.path)

    def part(self, rows: slice) -> Picture:
        """Some rows, read from the file; see `Rows`."""
        first, last, _ = rows.indices(self.frame.height)
        shape = (last - first, *self.frame.shape[1:])
        row = int(np.prod(shape[1:]))
        samples = np.fromfile(
            self.path,
            self.dtype,
            (last - first) * row,
            offset=self.start + first * row * self.dtype.itemsize,
        )
        if samples.size < (last - first) * row:
            raise FileError(f"{self.path}: the file is truncated")
        return _picture(samples.reshape(shape), self.frame, self.origin)


class TiffRows:
    """A TIFF of one page whose strips or tiles are decoded as they are needed."""

    def __init__(self, path: Path, page: Any, frame: Frame) -> None:
        self._path, self._page, self.frame = path, page, frame

    @property
    def origin(self) -> str:
        return str(self._path)

    def part(self, rows: slice) -> Picture:
        """Some rows, of decoded strips or tiles; see `Rows`."""
        first, last, _ = rows.indices(self.frame.height)
        page = self._page
        samples = np.empty((last - first, *self.frame.shape[1:]), page.dtype)
        high = page.tilelength if page.is_tiled else page.rowsperstrip
        wide = page.tilewidth if page.is_tiled else self.frame.width
        across = -(-self.frame.width // wide)
        with open(self._path, "rb") as file:
            for index in range(first // high * across, -(-last // high) * across):
                file.seek(page.dataoffsets[index])
                data = file.read(page.databytecounts[index])
                if len(data) < page.databytecounts[index]:
                    raise FileError(f"{self._path}: the TIFF is truncated")
                segment, place, size = page.decode(data, index)
                if segment is None:
                    raise FileError(f"{self._path}: the TIFF has an empty strip or tile")
                _, _, top, left, _ = place
                _, down, right, _ = size
                right = min(right, self.frame.width - left)  # tiles reach beyond the picture
                piece = segment[0, :down, :right].reshape(down, right, -1)
                low, up = max(first, top), min(last, top + down)
                if low < up:
                    target = samples.reshape(last - first, self.frame.width, -1)
                    target[low - first : up - first, left : left + right] = piece[
                        low - top : up - top
                    ]
        return _picture(samples, self.frame, self.origin)


def open_rows(path: Path, full_scale: float | None = None) -> NpyRows | TiffRows | None:
    """A file that can be read in bands; None where it has to be read whole.

    TIFF of one page with gray or RGB samples of 8 or 16 bits or float32, contiguous by pixel,
    upright, without alpha; NPY of uint8, uint16, float32 or float64 in row order. A full scale of
    its own is read whole.
    """
    if full_scale is not None or not path.is_file():
        return None
    with open(path, "rb") as file:
        begins = file.read(6)
    with contextlib.suppress(ValueError, KeyError, IndexError, TypeError, AttributeError):
        if begins == _NPY:
            return _open_npy(path)
        if begins[:4] in _TIFF:
            return _open_tiff(path)
    return None


def _open_npy(path: Path) -> NpyRows | None:
    with open(path, "rb") as file:
        version = np.lib.format.read_magic(file)
        header = (
            np.lib.format.read_array_header_1_0
            if version == (1, 0)
            else np.lib.format.read_array_header_2_0
        )
        shape, fortran, dtype = header(file)
        start = file.tell()
    colour = _colour(shape)
    if fortran or colour is None or dtype.newbyteorder("=") not in _DEPTHS:
        return None
    frame = Frame(shape[0], shape[1], (*shape, 1)[2], colour, _DEPTHS[dtype.newbyteorder("=")])
    return NpyRows(path, frame, dtype, start)


#: Bit depths of the types that are read in bands; None for float.
_DEPTHS: dict[Any, int | None] = {
    np.dtype(np.uint8): 8, np.dtype(np.uint16): 16, np.dtype(np.float32): None,
    np.dtype(np.float64): None,
}  # fmt: skip


def _colour(shape: tuple[int, ...]) -> Colour | None:
    if len(shape) == 2:
        return "gray"
    if len(shape) != 3 or shape[2] < 2:
        return None
    return "rgb" if shape[2] == 3 else "planes"


def _open_tiff(path: Path) -> TiffRows | None:
    import logging

    import tifffile

    logging.getLogger("tifffile").setLevel(logging.CRITICAL)
    with tifffile.TiffFile(path) as tiff:
        page: Any = tiff.pages[0]
        turned = page.tags.get(274)
        kind = (page.photometric.name, len(page.shape))
        depth = 8 * page.dtype.itemsize if page.dtype.kind == "u" else page.bitspersample
        plain = (
            len(tiff.pages) == 1
            and kind in (("MINISBLACK", 2), ("RGB", 3))
            and page.axes in ("YX", "YXS")
            and not page.extrasamples
            and page.dtype in _DEPTHS
            and page.bitspersample == depth
            and (turned is None or int(turned.value) == 1)
            and page.planarconfig == 1
        )
        if not plain:
            return None
        height, width = page.shape[:2]
        channels = 1 if page.axes == "YX" else page.shape[2]
        colour: Colour = "gray" if channels == 1 else "rgb"
        page.dataoffsets, page.databytecounts  # noqa: B018 - read while the file is open
        _ = page.decode
        return TiffRows(path, page, Frame(height, width, channels, colour, _DEPTHS[page.dtype]))


def _picture(samples: Samples, frame: Frame, origin: str) -> Picture:
    native = np.ascontiguousarray(samples.astype(samples.dtype.newbyteorder("="), copy=False))
    picture = as_picture(frozen(native), origin)
    if picture.colour != frame.colour:
        raise PictureError(f"{origin}: rows of this picture are not {frame.colour}")
    return picture


def write_rows(path: Path, frame: Frame, pictures: Iterable[Picture]) -> None:
    """Write a picture from its bands, whole or not at all: TIFF (BigTIFF from 4 GiB) or NPY.

    Raises
    ------
    FileError
        If the ending names another format, or the file cannot be written.
    """
    ending = path.suffix.lower()
    if ending not in (".tif", ".tiff", ".npy"):
        raise FileError(
            f"{path}: a picture that is worked on in bands is written as .tif or .npy; name one"
        )
    writer = _write_npy if ending == ".npy" else _write_tiff
    with replacing(path) as temporary:
        writer(temporary, frame, pictures)


def _write_npy(path: Path, frame: Frame, pictures: Iterable[Picture]) -> None:
    with open(path, "wb") as file:
        begun = False
        for picture in pictures:
            if not begun:
                begun = True
                descr = np.lib.format.dtype_to_descr(picture.samples.dtype)
                np.lib.format.write_array_header_2_0(
                    file, {"descr": descr, "fortran_order": False, "shape": frame.shape}
                )
            np.ascontiguousarray(picture.samples).tofile(file)


def _write_tiff(path: Path, frame: Frame, pictures: Iterable[Picture]) -> None:
    import tifffile

    bands = iter(pictures)
    first = next(bands)

    def strips() -> Iterator[Samples]:
        for picture in _chained(first, bands):
            for start in range(0, picture.height, _STRIP):
                yield np.ascontiguousarray(picture.samples[start : start + _STRIP])

    with tifffile.TiffWriter(path, bigtiff=_bytes(frame, first) >= 2**32 - 2**24) as tiff:
        tiff.write(
            strips(), shape=frame.shape, dtype=first.samples.dtype, rowsperstrip=_STRIP,
            **tiff_options(first),
        )  # fmt: skip


def _chained(first: Picture, others: Iterator[Picture]) -> Iterator[Picture]:
    yield first
    yield from others


def _bytes(frame: Frame, picture: Picture) -> int:
    return int(np.prod(frame.shape)) * int(picture.samples.dtype.itemsize)
