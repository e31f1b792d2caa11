"""Lossless layer: stacks of whole numbers to sections of bytes.

A back end packs one stack at a time; the layer around it is the same for all of them. To
add one, write `pack` and `unpack` and enter it in `BACK_ENDS`.
"""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from magnetite.core.codecs.layers import Section
from magnetite.core.errors import StreamError

Numbers = NDArray[np.int32]
BackEndName = Literal["zlib", "raw"]

#: Numbers from -127 to 127 take one byte, `number + 127`; this byte announces four more.
_ESCAPE = 255
_SMALL = 127


class BackEnd(Protocol):
    """Packs numbers into bytes and gets the same numbers back from them."""

    def pack(self, numbers: Numbers) -> bytes: ...

    def unpack(self, data: bytes, count: int) -> Numbers:
        """Exactly `count` numbers, shape (count,); raises `StreamError` for anything else."""
        ...


class Raw:
    """Numbers as bytes: one each where small, five where not."""

    def pack(self, numbers: Numbers) -> bytes:
        flat = numbers.ravel()
        large = np.abs(flat) > _SMALL
        symbols = np.where(large, _ESCAPE, flat + _SMALL).astype(np.uint8)
        return symbols.tobytes() + flat[large].astype("<i4").tobytes()

    def unpack(self, data: bytes, count: int) -> Numbers:
        symbols = np.frombuffer(data[:count], np.uint8)
        large = symbols == _ESCAPE
        if symbols.size != count or len(data) != count + 4 * int(large.sum()):
            raise StreamError("the compressed data do not hold the number of coefficients declared")
        numbers = symbols.astype(np.int32) - _SMALL
        numbers[large] = np.frombuffer(data[count:], "<i4")
        return numbers


class Deflate:
    """The bytes of `Raw`, compressed by DEFLATE (RFC 1950, RFC 1951)."""

    def pack(self, numbers: Numbers) -> bytes:
        # Runs of zeros and skewed single bytes are all there is to find: matching runs only
        # is many times faster than full matching, and smaller but for the sparsest data.
        deflater = zlib.compressobj(level=9, strategy=zlib.Z_RLE)
        return deflater.compress(Raw().pack(numbers)) + deflater.flush()

    def unpack(self, data: bytes, count: int) -> Numbers:
        inflater = zlib.decompressobj()
        try:
            # No stream of `count` numbers is longer than this, so nothing more is allocated.
            plain = inflater.decompress(data, 5 * count + 1)
        except zlib.error as error:
            raise StreamError(f"the compressed data are damaged ({error})") from None
        if not inflater.eof or inflater.unused_data:
            raise StreamError("the compressed data end early or run on")
        return Raw().unpack(plain, count)


BACK_ENDS: dict[str, BackEnd] = {"zlib": Deflate(), "raw": Raw()}


@dataclass(frozen=True)
class Lossless:
    """Orders each stack for its back end and packs it into a section of its own.

    The order is by frequency, lowest first, and within a frequency by block in raster order;
    so the many zeros of the high frequencies stand together. The lowest frequency is coded
    as the difference from the block before.
    """

    names: Sequence[str]
    blocks: int
    size: tuple[int, int]
    back_end: BackEndName

    def forward(self, stacks: list[Numbers]) -> list[Section]:
        order = _frequency_order(self.size)
        sections = []
        for name, stack in zip(self.names, stacks, strict=True):
            ordered = np.ascontiguousarray(stack.reshape(self.blocks, -1).T[order])
            ordered[0] = np.diff(ordered[0], prepend=np.int32(0))
            sections.append(Section(name, BACK_ENDS[self.back_end].pack(ordered)))
        return sections

    def backward(self, sections: Sequence[bytes]) -> list[Numbers]:
        if len(sections) != len(self.names):
            raise StreamError(f"{len(self.names)} sections are expected, {len(sections)} are there")
        order = _frequency_order(self.size)
        stacks = []
        for data in sections:
            numbers = BACK_ENDS[self.back_end].unpack(data, self.blocks * order.size)
            ordered = numbers.reshape(order.size, self.blocks)
            ordered[0] = np.cumsum(ordered[0], dtype=np.int32)
            stack = np.empty_like(ordered)
            stack[order] = ordered
            stacks.append(stack.T.reshape(self.blocks, *self.size))
        return stacks


def _frequency_order(size: tuple[int, int]) -> NDArray[np.intp]:
    """Places of a block's coefficients by rising frequency, (row/height)² + (column/width)²."""
    row, column = np.indices(size)
    frequency = (row / size[0]) ** 2 + (column / size[1]) ** 2
    return np.argsort(frequency.ravel(), kind="stable")
