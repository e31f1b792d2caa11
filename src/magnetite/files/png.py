"""PNG chunks that decoder libraries do not report: depth, significant bits, damage."""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass

from magnetite.core.errors import FileError

SIGNATURE = b"\x89PNG\r\n\x1a\n"


@dataclass(frozen=True)
class Layout:
    """Bits of a sample as stored, colour type, and significant bits (sBIT) where all agree."""

    depth: int
    colour_type: int
    significant: int | None
    #: Chunks on colours, by name, and on significant bits that differ.
    colours: dict[bytes, bytes]
    unequal: bytes = b""
    #: More than one of an animation (acTL).
    frames: int = 1


def read_layout(data: bytes) -> Layout:
    """Walk the chunks, checking each; raises `FileError` where the file is truncated or damaged."""
    position, significant, header, unequal, frames = len(SIGNATURE), None, b"", b"", 1
    colours: dict[bytes, bytes] = {}
    while True:
        if position + 12 > len(data):
            raise FileError("the PNG is truncated")
        (length,) = struct.unpack_from(">I", data, position)
        end = position + 12 + length
        if end > len(data):
            raise FileError("the PNG is truncated")
        name, body = data[position + 4 : position + 8], data[position + 8 : end - 4]
        if zlib.crc32(data[position + 4 : end - 4]) != struct.unpack_from(">I", data, end - 4)[0]:
            raise FileError(f"the PNG is damaged: the checksum of its {name!r} chunk is wrong")
        if name == b"IHDR":
            header = body
        if name == b"sBIT" and len(set(body)) == 1:
            significant = body[0]
        elif name == b"sBIT":
            unequal = body
        if name == b"acTL":
            frames = int.from_bytes(body[:4], "big")
        if name in (b"cICP", b"iCCP", b"sRGB", b"gAMA"):
            colours[name] = body
        if name == b"IEND":
            break
        position = end
    if len(header) != 13:
        raise FileError("the PNG is damaged: it has no header chunk")
    return Layout(header[8], header[9], significant, colours, unequal, frames)


def declared_samples(data: bytes) -> int:
    """Samples that the header declares, a palette's as red, green and blue."""
    width, height, _, colour_type = struct.unpack_from(">IIBB", data, len(SIGNATURE) + 8)
    return int(width) * int(height) * {0: 1, 2: 3, 3: 3, 4: 2, 6: 4}.get(colour_type, 4)


def essential(data: bytes) -> bytes:
    """The PNG with the chunks alone that its samples and their orientation need.

    Others, such as profiles, may be damaged, and decoders would complain of them.
    """
    kept, position = [data[: len(SIGNATURE)]], len(SIGNATURE)
    while position < len(data):
        (length,) = struct.unpack_from(">I", data, position)
        end = position + 12 + length
        name = data[position + 4 : position + 8]
        if name[:1].isupper() or name in (b"tRNS", b"eXIf"):
            kept.append(data[position:end])
        position = end
    return b"".join(kept)


def with_chunk(data: bytes, name: bytes, body: bytes) -> bytes:
    """A PNG with a chunk more, directly after its header (PNG, 3rd ed., 5.6)."""
    checksum = zlib.crc32(name + body)
    chunk = struct.pack(">I", len(body)) + name + body + struct.pack(">I", checksum)
    after_header = len(SIGNATURE) + 12 + 13
    return data[:after_header] + chunk + data[after_header:]
