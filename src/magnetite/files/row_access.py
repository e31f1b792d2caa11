"""Files of which any rows can be read: TIFF in strips or tiles, NPY, streams of slabs."""

from __future__ import annotations

import contextlib
import math
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.codecs.layers.container import MAGIC
from magnetite.core.errors import FileError, MagnetiteError
from magnetite.core.picture import Picture, frozen
from magnetite.core.picture.frame import Frame, Light
from magnetite.core.picture.rows import Rows
from magnetite.files.colours import light_of_tiff
from magnetite.files.formats import Decoded, npy, tiff
from magnetite.files.opening import Stamp, opened
from magnetite.files.raw import main_page
from magnetite.files.reading import first_line, picture_of


@dataclass(frozen=True)
class _Samples:
    """The header's declaration of the samples, and the conversion to a picture."""

    path: Path
    shape: tuple[int, ...]
    dtype: np.dtype[Any]
    full_scale: float | None
    #: Of the file whose header was read.
    stamp: Stamp
    light: Light

    @property
    def origin(self) -> str:
        return str(self.path)

    @cached_property
    def frame(self) -> Frame:
        """Frame of the whole picture: that of one row of zeros, with the height of the file."""
        row = self._picture(np.zeros((1, *self.shape[1:]), self.dtype))
        return replace(row.frame, height=self.shape[0])

    def _picture(self, samples: Samples) -> Picture:
        native = frozen(samples.astype(samples.dtype.newbyteorder("="), copy=False))
        try:
            return picture_of(Decoded(native, light=self.light), self.origin, self.full_scale)
        except MagnetiteError as error:
            message = str(error)
            kind = type(error)
            raise kind(message if self.origin in message else f"{self.path}: {message}") from None


@dataclass(frozen=True)
class NpyRows(_Samples):
    """An NPY file with its rows one after the other."""

    #: Bytes before the samples.
    start: int

    def part(self, rows: slice) -> Picture:
        """Some rows, read from the file; see `Rows`."""
        first, last, _ = rows.indices(self.shape[0])
        shape = (last - first, *self.shape[1:])
        row = math.prod(shape[1:])
        count, offset = (last - first) * row, self.start + first * row * self.dtype.itemsize
        with opened(self.path, self.stamp) as file:
            samples = np.fromfile(file, self.dtype, count, offset=offset)
        if samples.size < count:
            raise FileError(f"{self.path}: the file is truncated")
        return self._picture(samples.reshape(shape))


@dataclass(frozen=True)
class TiffRows(_Samples):
    """A TIFF of one page whose strips or tiles are decoded as they are needed."""

    page: Any

    def part(self, rows: slice) -> Picture:
        """Some rows, of decoded strips or tiles; see `Rows`."""
        first, last, _ = rows.indices(self.shape[0])
        page, width = self.page, self.shape[1]
        samples = np.empty((last - first, *self.shape[1:]), self.dtype)
        target = samples.reshape(last - first, width, -1)
        high = page.tilelength if page.is_tiled else page.rowsperstrip
        across = -(-width // page.tilewidth) if page.is_tiled else 1
        with opened(self.path, self.stamp) as file:
            for index in range(first // high * across, -(-last // high) * across):
                piece, top, left = self._segment(file, index)
                low, up = max(first, top), min(last, top + piece.shape[0])
                if low < up:
                    right = left + piece.shape[1]
                    target[low - first : up - first, left:right] = piece[low - top : up - top]
        return self._picture(samples)

    def _segment(self, file: BinaryIO, index: int) -> tuple[Samples, int, int]:
        """The samples of a strip or tile that lie in the picture, and its first row and column."""
        page = self.page
        try:
            file.seek(page.dataoffsets[index])
            data = file.read(page.databytecounts[index])
            if len(data) < page.databytecounts[index]:
                raise EOFError("the file is truncated")
            segment, (_, _, top, left, _), (_, down, wide, _) = page.decode(data, index)
            wide = min(wide, self.shape[1] - left)  # tiles reach beyond the picture
            shape = down, wide, math.prod(self.shape[2:])
            return segment[0, :down, :wide].reshape(shape), top, left
        except Exception as error:  # decoder libraries raise whatever they like on damaged files
            words = first_line(error)
            raise FileError(f"{self.path}: strip or tile {index} is damaged ({words})") from None


def open_rows(path: Path, full_scale: float | None = None) -> Rows | None:
    """A file that can be read in bands; None where it has to be read whole.

    TIFF of one page with gray or RGB samples of 8 or 16 bits or float32, contiguous by pixel,
    upright, without alpha; NPY with two or three axes in row order; `.mgt` of slabs.
    `full_scale` as of `read`.

    Raises
    ------
    StreamError
        If an `.mgt` file is damaged, cut or altered.
    """
    if not path.is_file():
        return None
    with opened(path) as file:
        begins = file.read(8)
    if begins.startswith(MAGIC):
        from magnetite.files.streams import open_stream

        return open_stream(path)
    with contextlib.suppress(Exception):  # a damaged header is reported by reading it whole
        if begins.startswith(npy.MARKS):
            return _open_npy(path, full_scale)
        if begins.startswith(tiff.MARKS):
            return _open_tiff(path, full_scale)
    return None


def _open_npy(path: Path, full_scale: float | None) -> NpyRows | None:
    with opened(path) as file:
        shape, fortran, dtype = npy.read_header(file)
        start, stamp = file.tell(), Stamp.of(file)
    if start + math.prod(shape) * dtype.itemsize > stamp.size:
        return None
    if fortran or len(shape) not in (2, 3) or dtype.kind not in "uf" or min(shape) < 1:
        return None
    return NpyRows(path, shape, dtype, full_scale, stamp, "unknown", start)


#: Types of samples in a TIFF that are read in bands.
_TYPES = (np.uint8, np.uint16, np.float32)


def _open_tiff(path: Path, full_scale: float | None) -> TiffRows | None:
    with opened(path) as file, tiff.open_tiff(file, path.name) as whole:
        page: Any = whole.pages[0]
        turned = page.tags.get(274)
        plain = (
            len(whole.pages) == 1
            and main_page(whole) is page
            and (page.photometric.name, page.axes) in (("MINISBLACK", "YX"), ("RGB", "YXS"))
            and not page.extrasamples
            and page.dtype in _TYPES
            and page.bitspersample == 8 * page.dtype.itemsize
            and (turned is None or int(turned.value) == 1)
            and page.planarconfig == 1
            and all(isinstance(side, int) and side > 0 for side in _sides(page))
        )
        if not plain:
            return None
        # The decoder of strips or tiles is made here: it may read tables from the open file.
        stamp, decode = Stamp.of(file), page.decode
        if not decode:
            return None
        light = light_of_tiff(page)
        return TiffRows(path, page.shape, page.dtype, full_scale, stamp, light, page)


def _sides(page: Any) -> tuple[object, ...]:
    """Sides of the picture, and of its tiles or strips; damaged tags hold any number."""
    pieces = (page.tilelength, page.tilewidth) if page.is_tiled else (page.rowsperstrip,)
    return *page.shape, *pieces
