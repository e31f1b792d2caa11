"""The `.mgt` container, byte by byte as in docs/mgt-format.md.

offset  bytes   what
0       4       0x89 "MGT"
4       1       version, 1
5       1       bit depth, 1 to 16; 0 for float
6       1       colour: 0 gray, 1 RGB, 2 planes
7       varint  height        (varints: unsigned LEB128)
        varint  width
        varint  channels
        varint  length of the step text
        n       step text, UTF-8: the codec with its settings, in canonical spelling
        varint  number of sections
        varint  length of each section
        n       the sections, one after the other
        4       CRC-32 of all bytes before, little-endian
"""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from typing import get_args

from magnetite.core.codecs.layers import Frame
from magnetite.core.errors import StreamError
from magnetite.core.picture import Colour

MAGIC = b"\x89MGT"
VERSION = 1
#: A reader refuses to allocate for more samples than this unless told otherwise.
MAX_SAMPLES = 2**28
_COLOURS: tuple[Colour, ...] = get_args(Colour)
_MAX_SECTIONS = 4096


@dataclass(frozen=True)
class Stream:
    """What a container holds."""

    frame: Frame
    bits: int | None
    step: str
    sections: Sequence[bytes]

    def pack(self) -> bytes:
        """The container's bytes."""
        frame, text = self.frame, self.step.encode()
        head = bytes([VERSION, self.bits or 0, _COLOURS.index(frame.colour)])
        numbers = [frame.height, frame.width, frame.channels, len(text)]
        lengths = [len(self.sections), *map(len, self.sections)]
        body = b"".join(
            [MAGIC, head, *map(_varint, numbers), text, *map(_varint, lengths), *self.sections]
        )
        return body + zlib.crc32(body).to_bytes(4, "little")


def unpack(data: bytes, max_samples: int = MAX_SAMPLES) -> Stream:
    """Read a container.

    Raises
    ------
    StreamError
        If the bytes are no container, of another version, damaged, or declare more than
        `max_samples` samples.
    """
    if data[:4] != MAGIC:
        raise StreamError("this is no .mgt stream: it does not begin with its mark")
    if len(data) > 4 and data[4] != VERSION:
        raise StreamError(f"this is .mgt version {data[4]}; version {VERSION} is read here")
    if len(data) < 16 or zlib.crc32(data[:-4]) != int.from_bytes(data[-4:], "little"):
        raise StreamError("the stream is truncated or altered: its checksum does not match")
    reader = _Reader(data[:-4], 5)
    bits, colour = reader.byte(), reader.byte()
    if bits > 16 or colour >= len(_COLOURS):
        raise StreamError(f"the header declares {bits} bits and colour {colour}")
    frame = Frame(reader.varint(), reader.varint(), reader.varint(), _COLOURS[colour])
    _check_frame(frame, max_samples)
    step = reader.take(reader.varint())
    count = reader.varint()
    if count > _MAX_SECTIONS:
        raise StreamError(f"the header declares {count} sections; at most {_MAX_SECTIONS} are read")
    lengths = [reader.varint() for _ in range(count)]
    sections = [reader.take(length) for length in lengths]
    if not reader.at_end:
        raise StreamError("bytes follow the last section")
    try:
        return Stream(frame, bits or None, step.decode(), sections)
    except UnicodeDecodeError:
        raise StreamError("the step text is not UTF-8") from None


def _check_frame(frame: Frame, max_samples: int) -> None:
    fixed = {"gray": 1, "rgb": 3}.get(frame.colour, frame.channels)
    samples = frame.height * frame.width * frame.channels
    if samples == 0 or frame.channels != fixed:
        raise StreamError(
            f"the header declares {frame.width}x{frame.height} {frame.colour} "
            f"with {frame.channels} channels"
        )
    if samples > max_samples:
        raise StreamError(f"the header declares {samples} samples; at most {max_samples} are read")


def _varint(number: int) -> bytes:
    """Unsigned LEB128: seven bits a byte, lowest first, the high bit set on all but the last."""
    groups = bytearray()
    while number > 0x7F:
        groups.append(number & 0x7F | 0x80)
        number >>= 7
    groups.append(number)
    return bytes(groups)


class _Reader:
    """Reads on from a place, and never past the end."""

    def __init__(self, data: bytes, place: int) -> None:
        self._data = data
        self._place = place

    @property
    def at_end(self) -> bool:
        return self._place == len(self._data)

    def take(self, count: int) -> bytes:
        if count > len(self._data) - self._place:
            raise StreamError("the stream ends before its last section")
        self._place += count
        return self._data[self._place - count : self._place]

    def byte(self) -> int:
        return self.take(1)[0]

    def varint(self) -> int:
        number = 0
        for shift in range(0, 35, 7):
            group = self.byte()
            number |= (group & 0x7F) << shift
            if group < 0x80:
                return number
        raise StreamError("a number in the header is too long")
