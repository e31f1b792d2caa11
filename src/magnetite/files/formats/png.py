"""PNG, with the chunks that decoder libraries do not report: depth, significant bits, damage."""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass, replace

import numpy as np

from magnetite.core.errors import FileError
from magnetite.core.picture import Picture
from magnetite.files.colours import LINEAR_GAMMA, colour_notes, light_of_png, of_png
from magnetite.files.formats._format import ANY, Decoded, Format, separated
from magnetite.files.formats._images import decode as decode_image
from magnetite.files.formats._images import first_of, open_image, orientation, silent

_SIGNATURE = b"\x89PNG\r\n\x1a\n"


@dataclass(frozen=True)
class _Layout:
    """Bits of a sample as stored, colour type, and significant bits (sBIT) where all agree."""

    depth: int
    colour_type: int
    significant: int | None
    #: Chunks on colours, by name, and on significant bits that differ.
    colours: dict[bytes, bytes]
    unequal: bytes = b""
    #: More than one of an animation (acTL).
    frames: int = 1


def _read_layout(data: bytes) -> _Layout:
    """Walk the chunks, checking each; raises `FileError` where the file is truncated or damaged."""
    position, significant, header, unequal, frames = len(_SIGNATURE), None, b"", b"", 1
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
    return _Layout(header[8], header[9], significant, colours, unequal, frames)


def _declared(data: bytes) -> int:
    """Samples that the header declares, a palette's as red, green and blue."""
    width, height, _, colour_type = struct.unpack_from(">IIBB", data, len(_SIGNATURE) + 8)
    return int(width) * int(height) * {0: 1, 2: 3, 3: 3, 4: 2, 6: 4}.get(colour_type, 4)


def _essential(data: bytes) -> bytes:
    """The PNG with the chunks alone that its samples and their orientation need.

    Others, such as profiles, may be damaged, and decoders would complain of them.
    """
    kept, position = [data[: len(_SIGNATURE)]], len(_SIGNATURE)
    while position < len(data):
        (length,) = struct.unpack_from(">I", data, position)
        end = position + 12 + length
        name = data[position + 4 : position + 8]
        if name[:1].isupper() or name in (b"tRNS", b"eXIf"):
            kept.append(data[position:end])
        position = end
    return b"".join(kept)


def _with_chunk(data: bytes, name: bytes, body: bytes) -> bytes:
    """A PNG with a chunk more, directly after its header (PNG, 3rd ed., 5.6)."""
    checksum = zlib.crc32(name + body)
    chunk = struct.pack(">I", len(body)) + name + body + struct.pack(">I", checksum)
    after_header = len(_SIGNATURE) + 12 + 13
    return data[:after_header] + chunk + data[after_header:]


def _decode(data: bytes) -> Decoded:
    import imagecodecs

    layout = _read_layout(data)
    said = colour_notes(of_png(layout.colours))
    if layout.unequal:
        each = ", ".join(map(str, layout.unequal))
        said += (f"significant bits differ between channels ({each}): they are not used",)
    if layout.frames > 1:
        said += (first_of(layout.frames),)
    data = _essential(data)
    if layout.depth == 16:
        with silent:
            samples = imagecodecs.png_decode(data)
        turn = orientation(open_image(data))
        alpha = samples.ndim == 3 and samples.shape[2] in (2, 4)
        decoded = (
            separated(samples, 16, (), turn) if alpha else Decoded(samples, 16, orientation=turn)
        )
    else:
        decoded = decode_image(data)
        if layout.colour_type == 0 and layout.depth in (2, 4) and decoded.bits == 8:
            scale = 255 // (2**layout.depth - 1)
            decoded = replace(decoded, samples=decoded.samples // scale, bits=layout.depth)
    decoded = _significant(decoded, layout.significant)
    return replace(decoded, notes=(*decoded.notes, *said), light=light_of_png(layout.colours))


def _significant(decoded: Decoded, bits: int | None) -> Decoded:
    """Undo the scaling to whole bytes that sBIT declares, if every sample agrees with it."""
    stored = decoded.bits
    if bits is None or stored not in (8, 16) or not 0 < bits < stored:
        return decoded
    samples = decoded.samples >> (stored - bits)
    again = np.rint(samples * ((2**stored - 1) / (2**bits - 1)))
    return (
        replace(decoded, samples=samples, bits=bits)
        if (again == decoded.samples).all()
        else decoded
    )


def _encode(picture: Picture) -> bytes:
    data = _samples_as_png(picture)
    return _with_chunk(data, b"gAMA", LINEAR_GAMMA) if picture.light == "linear" else data


def _samples_as_png(picture: Picture) -> bytes:
    from magnetite.core.codecs.yardsticks import encode_png

    bits = picture.bits or 8
    if bits in (8, 16):
        return encode_png(picture.samples, 6)
    stored = 8 if bits < 8 else 16
    scale = (2**stored - 1) / picture.full_scale
    samples = np.rint(picture.samples * scale).astype(np.uint8 if stored == 8 else np.uint16)
    data = encode_png(samples, 6)
    return _with_chunk(data, b"sBIT", bytes([bits] * picture.channels))


FORMATS = (Format("PNG", (".png",), (_SIGNATURE,), _declared, _decode, _encode, ANY, rank=0),)
