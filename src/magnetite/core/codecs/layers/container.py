"""The `.mgt` container, byte by byte as in docs/mgt-format.md.

offset  bytes   content
0       4       0x89 "MGT"
4       1       version, 5
5       1       bit depth, 1 to 16; 0 for float
6       1       colour: 0 gray, 1 RGB, 2 planes
7       varint  height        (varints: unsigned LEB128)
        varint  width
        varint  channels
        varint  length of the step text
        n       step text, UTF-8: the codec with its settings, in canonical spelling
        varint  number of sections
        varint  length of each section
        4       CRC-32 of all sections, little-endian
        4       CRC-32 of all bytes before, little-endian
        n       the sections, one after the other
"""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from typing import get_args

from magnetite.core.errors import StreamError
from magnetite.core.limits import MAX_SAMPLES, check_samples
from magnetite.core.picture import Colour
from magnetite.core.picture.frame import Frame

MAGIC = b"\x89MGT"
VERSION = 5
#: More bytes than a header takes.
LONGEST_HEADER = 2**18
_COLOURS: tuple[Colour, ...] = get_args(Colour)
#: Codecs code no more planes than this, and in no more sections.
MAX_PLANES, _MAX_SECTIONS = 4096, 4 * 4096


@dataclass(frozen=True)
class Stream:
    """Content of a container."""

    frame: Frame
    step: str
    sections: Sequence[bytes]
    #: Bytes that are missing at the end; the remaining sections cannot be checked then.
    missing: int = 0

    def pack(self) -> bytes:
        """The container's bytes."""
        payload = b"".join(self.sections)
        lengths = list(map(len, self.sections))
        return Header(self.frame, self.step, lengths, zlib.crc32(payload)).pack() + payload


@dataclass(frozen=True)
class Header:
    """The header before the sections."""

    frame: Frame
    step: str
    #: Bytes of each section.
    lengths: Sequence[int]
    #: CRC-32 of all sections.
    checksum: int

    def pack(self) -> bytes:
        """The header's bytes."""
        frame, text = self.frame, self.step.encode()
        head = bytes([VERSION, frame.bits or 0, _COLOURS.index(frame.colour)])
        numbers = [frame.height, frame.width, frame.channels, len(text)]
        lengths = [len(self.lengths), *self.lengths]
        header = b"".join([MAGIC, head, *map(_varint, numbers), text, *map(_varint, lengths)])
        header += self.checksum.to_bytes(4, "little")
        return header + _checksum(header)


def _checksum(data: bytes) -> bytes:
    return zlib.crc32(data).to_bytes(4, "little")


def read_header(data: bytes) -> tuple[Header, int]:
    """The header at the beginning of a container, and how many bytes it takes.

    Raises
    ------
    StreamError
        If the bytes begin no container, or one of another version, or the header is damaged.
    """
    if data[:4] != MAGIC:
        raise StreamError("this is not an .mgt stream: it does not begin with its mark")
    if len(data) > 4 and data[4] != VERSION:
        raise StreamError(f"this is .mgt version {data[4]}; version {VERSION} is read here")
    reader = _Reader(data, 5)
    bits, colour = reader.byte(), reader.byte()
    height, width, channels = (reader.varint() for _ in range(3))
    step = reader.take(reader.varint())
    count = reader.varint()
    if count > _MAX_SECTIONS:
        raise StreamError(f"the header declares {count} sections; at most {_MAX_SECTIONS} are read")
    lengths = [reader.varint() for _ in range(count)]
    checksum = int.from_bytes(reader.take(4), "little")
    if reader.before != reader.take(4):
        raise StreamError("the header is altered: its checksum does not match")
    if bits > 16 or colour >= len(_COLOURS):
        raise StreamError(f"the header declares {bits} bits and colour {colour}")
    frame = Frame(height, width, channels, _COLOURS[colour], bits or None)
    try:
        return Header(frame, step.decode(), lengths, checksum), reader.position
    except UnicodeDecodeError:
        raise StreamError("the step text is not UTF-8") from None


def unpack(data: bytes, max_samples: int = MAX_SAMPLES) -> Stream:
    """Read a container.

    Raises
    ------
    StreamError
        If the bytes are no container, of another version, damaged, or declare more than
        `max_samples` samples. One that ends early is read, and says how much is missing.
    """
    header, start = read_header(data)
    check_frame(header.frame, max_samples)
    reader = _Reader(data, start)
    missing = missing_bytes(header, reader.left)
    if missing == 0 and header.checksum != zlib.crc32(reader.rest):
        raise StreamError(ALTERED)
    sections = [reader.take(min(length, reader.left)) for length in header.lengths]
    return Stream(header.frame, header.step, sections, missing)


ALTERED = "the stream is altered: its checksum does not match"


def missing_bytes(header: Header, left: int) -> int:
    """Bytes missing of the sections where `left` bytes follow; `StreamError` if too many do."""
    missing = sum(header.lengths) - left
    if missing < 0:
        raise StreamError("bytes follow the last section")
    return missing


def check_frame(frame: Frame, max_samples: int) -> None:
    """Raise `StreamError` for a frame that no picture has, or of too many samples."""
    fixed = {"gray": 1, "rgb": 3}.get(frame.colour, frame.channels)
    samples = frame.height * frame.width * frame.channels
    if samples == 0 or frame.channels != fixed:
        raise StreamError(
            f"the header declares {frame.width}x{frame.height} {frame.colour} "
            f"with {frame.channels} channels"
        )
    if frame.channels > MAX_PLANES:
        raise StreamError(
            f"the header declares {frame.channels} planes; at most {MAX_PLANES} are read"
        )
    check_samples(samples, max_samples)


def _varint(number: int) -> bytes:
    """Unsigned LEB128: seven bits a byte, lowest first, the high bit set on all but the last."""
    groups = bytearray()
    while number > 0x7F:
        groups.append(number & 0x7F | 0x80)
        number >>= 7
    groups.append(number)
    return bytes(groups)


class _Reader:
    """Reads on from a position, and never past the end."""

    def __init__(self, data: bytes, position: int) -> None:
        self._data = data
        self.position = position

    @property
    def left(self) -> int:
        """Number of bytes not read yet."""
        return len(self._data) - self.position

    @property
    def rest(self) -> bytes:
        """All bytes not read yet."""
        return self._data[self.position :]

    @property
    def before(self) -> bytes:
        """Checksum of all bytes read so far."""
        return _checksum(self._data[: self.position])

    def take(self, count: int) -> bytes:
        if count > self.left:
            raise StreamError("the stream ends within its header")
        self.position += count
        return self._data[self.position - count : self.position]

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
