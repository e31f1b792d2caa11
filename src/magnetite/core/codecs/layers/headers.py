"""Sizes of pictures in files of other formats, read from their headers before decoding."""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import NamedTuple

from magnetite.core.errors import StreamError


class Size(NamedTuple):
    """Height and width in px, and the number of components where the header states it."""

    height: int
    width: int
    components: int | None = None


def png_size(data: bytes) -> Size:
    """PNG, section 11.2.2: the IHDR chunk comes first."""
    width, height = struct.unpack_from(">II", data, 16)
    return Size(height, width)


def jpeg_size(data: bytes) -> Size:
    """Size by the frame header after an SOF marker (ITU-T T.81, T.87); else `StreamError`."""
    position = 2
    while True:
        if data[position] != 0xFF:
            raise StreamError("a marker is missing")
        marker = data[position + 1]
        if marker == 0xFF:  # fill
            position += 1
            continue
        if marker == 0xF7 or (0xC0 <= marker <= 0xCF and marker not in (0xC4, 0xC8, 0xCC)):
            height, width, components = struct.unpack_from(">HHB", data, position + 5)
            return Size(height, width, components)
        position += 2 + int(struct.unpack_from(">H", data, position + 2)[0])


def jpeg2000_size(data: bytes) -> Size:
    """ITU-T T.800, A.5.1: the SIZ marker segment follows the start of the codestream."""
    start = data.index(b"\xff\x4f\xff\x51") + 4
    right, bottom, left, top = struct.unpack_from(">IIII", data, start + 4)
    (components,) = struct.unpack_from(">H", data, start + 36)
    return Size(bottom - top, right - left, components)


def webp_size(data: bytes) -> Size:
    """RFC 9649: the extended header, or that of the lossy or lossless bitstream."""
    kind = data[12:16]
    if kind == b"VP8X":
        width, height = (int.from_bytes(data[i : i + 3], "little") + 1 for i in (24, 27))
        return Size(height, width)
    if kind == b"VP8L":
        bits = int.from_bytes(data[21:25], "little")
        return Size(((bits >> 14) & 0x3FFF) + 1, (bits & 0x3FFF) + 1)
    width, height = struct.unpack_from("<HH", data, 26)
    return Size(height & 0x3FFF, width & 0x3FFF)


def avif_size(data: bytes) -> Size:
    """ISO/IEC 23008-12, 6.5.3: the largest image spatial extents."""
    sizes, position = [], data.find(b"ispe")
    while position >= 0:
        width, height = struct.unpack_from(">II", data, position + 8)
        sizes.append(Size(height, width))
        position = data.find(b"ispe", position + 4)
    return max(sizes)


def jpeg_xl_size(data: bytes) -> Size:
    """ISO/IEC 18181-1, A.3: the size header of the codestream, bare or in its box."""
    start = 0 if data[:2] == b"\xff\x0a" else data.index(b"jxlc") + 4
    bits = _Bits(data[start + 2 : start + 34])
    small = bits.take(1)

    def side() -> int:
        if small:
            return 8 * (bits.take(5) + 1)
        return bits.take((9, 13, 18, 30)[bits.take(2)]) + 1

    height = side()
    ratio = bits.take(3)
    if ratio == 0:
        return Size(height, side())
    over, under = ((1, 1), (12, 10), (4, 3), (3, 2), (16, 9), (5, 4), (2, 1))[ratio - 1]
    return Size(height, height * over // under)


class _Bits:
    """Bits of bytes, the least significant first."""

    def __init__(self, data: bytes) -> None:
        self._number, self._left = int.from_bytes(data, "little"), 8 * len(data)

    def take(self, count: int) -> int:
        if count > self._left:
            raise StreamError("the header ends early")
        value = self._number & ((1 << count) - 1)
        self._number >>= count
        self._left -= count
        return value


Reader = Callable[[bytes], Size]


def size_of(read: Reader, data: bytes) -> Size:
    """The header as read; `StreamError` where it is missing."""
    try:
        return read(data)
    except (IndexError, struct.error, ValueError) as error:
        raise StreamError(f"its header is damaged ({error})") from None
