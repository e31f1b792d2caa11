"""Lossless layer: whole numbers to bytes.

A back end packs the coefficients of one plane; the layer around it is the same for all of them. To
add one, write `pack` and `unpack` and enter it in `BACK_ENDS`.
"""

from __future__ import annotations

import zlib
from dataclasses import dataclass
from typing import Literal, Protocol

import numpy as np

from magnetite.core.arrays import Indices, Int32
from magnetite.core.errors import StreamError

Shape = tuple[int, int, int, int]
BackEndName = Literal["range", "zlib", "raw"]

#: Int32 from -127 to 127 take one byte, `number + 127`; this byte announces four more.
_ESCAPE = 255
_SMALL = 127


class BackEnd(Protocol):
    """Packs numbers into bytes and gets the same numbers back from them."""

    def pack(self, numbers: Int32) -> bytes: ...

    def unpack(self, data: bytes, shape: Shape) -> Int32:
        """Exactly the numbers of that shape; raises `StreamError` for anything else."""
        ...


class Range:
    """Adaptive range coding, each number in the context of those around it."""

    def pack(self, numbers: Int32) -> bytes:
        from magnetite.core.codecs.entropy import blocks_model, stripes

        return stripes.encode(blocks_model.run, np.ascontiguousarray(numbers))

    def unpack(self, data: bytes, shape: Shape) -> Int32:
        from magnetite.core.codecs.entropy import blocks_model, stripes

        return stripes.decode(blocks_model.run, data, shape)


class Raw:
    """Numbers as bytes: one each where small, five where not.

    They come by frequency, lowest first, and within a frequency by block in raster order, so
    that the many zeros of the high frequencies stand together. The lowest frequency is coded
    as the difference from the block before.
    """

    def pack(self, numbers: Int32) -> bytes:
        by_block = numbers.reshape(-1, numbers.shape[2] * numbers.shape[3])
        flat = np.ascontiguousarray(by_block.T[_frequency_order(*numbers.shape[2:])])
        flat[0] = np.diff(flat[0], prepend=np.int32(0))
        flat = flat.ravel()
        large = np.abs(flat) > _SMALL
        symbols = np.where(large, _ESCAPE, flat + _SMALL).astype(np.uint8)
        return symbols.tobytes() + flat[large].astype("<i4").tobytes()

    def unpack(self, data: bytes, shape: Shape) -> Int32:
        rows, columns, height, width = shape
        count = rows * columns * height * width
        symbols = np.frombuffer(data[:count], np.uint8)
        large = symbols == _ESCAPE
        if symbols.size != count or len(data) != count + 4 * int(large.sum()):
            raise StreamError("the compressed data do not hold the number of coefficients declared")
        flat = symbols.astype(np.int32) - _SMALL
        flat[large] = np.frombuffer(data[count:], "<i4")
        by_frequency = flat.reshape(height * width, rows * columns)
        by_frequency[0] = np.cumsum(by_frequency[0], dtype=np.int32)
        numbers = np.empty_like(by_frequency)
        numbers[_frequency_order(height, width)] = by_frequency
        return np.ascontiguousarray(numbers.T).reshape(shape)


class Deflate:
    """The bytes of `Raw`, compressed by DEFLATE (RFC 1950, RFC 1951)."""

    def pack(self, numbers: Int32) -> bytes:
        # Runs of zeros and skewed single bytes are all there is to find: matching runs only
        # is many times faster than full matching, and smaller but for the sparsest data.
        deflater = zlib.compressobj(level=9, strategy=zlib.Z_RLE)
        return deflater.compress(Raw().pack(numbers)) + deflater.flush()

    def unpack(self, data: bytes, shape: Shape) -> Int32:
        inflater = zlib.decompressobj()
        count = int(np.prod(shape, dtype=np.int64))
        try:
            # No stream of `count` numbers is longer than this, so nothing more is allocated.
            plain = inflater.decompress(data, 5 * count + 1)
        except zlib.error as error:
            raise StreamError(f"the compressed data are damaged ({error})") from None
        if not inflater.eof or inflater.unused_data:
            raise StreamError("the compressed data end early or run on")
        return Raw().unpack(plain, shape)


BACK_ENDS: dict[str, BackEnd] = {"range": Range(), "zlib": Deflate(), "raw": Raw()}


@dataclass(frozen=True)
class Lossless:
    """Packs the numbers of one plane, of a known shape."""

    shape: Shape
    back_end: BackEndName

    def forward(self, numbers: Int32) -> bytes:
        return BACK_ENDS[self.back_end].pack(numbers.reshape(self.shape))

    def backward(self, data: bytes) -> Int32:
        return BACK_ENDS[self.back_end].unpack(data, self.shape)


def _frequency_order(height: int, width: int) -> Indices:
    """Indices of a block's coefficients by rising frequency, (row/height)² + (column/width)²."""
    row, column = np.indices((height, width))
    frequency = (row / height) ** 2 + (column / width) ** 2
    return np.argsort(frequency.ravel(), kind="stable")
