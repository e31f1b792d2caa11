"""PGM and PPM, plain and raw, with any maximal value."""

from __future__ import annotations

import re

import numpy as np

from magnetite.core.arrays import Int64, Samples
from magnetite.core.errors import FileError
from magnetite.core.picture import Picture
from magnetite.files.formats._format import ANY, Decoded, Format

_TOKEN = rb"(?:\s|#[^\n]*\n)*?(\d+)"
_HEADER = re.compile(rb"P[2356]\s" + _TOKEN + rb"\s" + _TOKEN + rb"\s" + _TOKEN + rb"\s")


#: Bytes of a header at most, comments included.
_LONGEST = 2**16


def _declared(data: bytes) -> int:
    """Samples that the header declares; raises `FileError` if it is damaged."""
    width, height, _ = _numbers(data)
    return width * height * _channels(data)


def _channels(data: bytes) -> int:
    return 3 if data[1:2] in b"36" else 1


def _numbers(data: bytes) -> tuple[int, int, int]:
    """Width, height and maximal value."""
    header = _HEADER.match(data, 0, _LONGEST)
    if header is None or any(len(group) > 9 for group in header.groups()):
        raise FileError("the header of the PGM or PPM is damaged")
    width, height, largest = map(int, header.groups())
    return width, height, largest


def _samples(data: bytes) -> tuple[Samples, int]:
    """Samples (h, w) or (h, w, 3) and the maximal value; raises `FileError` if damaged."""
    plain, channels = data[1:2] in b"23", _channels(data)
    width, height, largest = _numbers(data)
    if not 0 < largest < 65536 or width * height == 0:
        raise FileError(f"the header declares {width}x{height} samples up to {largest}")
    header = _HEADER.match(data, 0, _LONGEST)
    assert header is not None
    count, body = width * height * channels, data[header.end() :]
    samples = _plain(body, count) if plain else _raw(body, count, largest)
    if samples.size < count:
        raise FileError(f"truncated: {samples.size} of {count} samples are there")
    if int(samples.max()) > largest:
        raise FileError(f"a sample of {int(samples.max())} is above the maximal value {largest}")
    return samples.reshape((height, width) if channels == 1 else (height, width, 3)), largest


def _plain(body: bytes, count: int) -> Int64:
    words = re.sub(rb"#[^\n]*", b"", body).split(maxsplit=count)[:count]
    wrong = next((word for word in words if not word.isdigit() or len(word) > 9), None)
    if wrong is not None:
        text = wrong[:20].decode(errors="replace")
        raise FileError(f"{text!r} in the plain PGM or PPM is not a sample: they are whole numbers")
    return np.array([int(word) for word in words], dtype=np.int64)


def _raw(body: bytes, count: int, largest: int) -> Samples:
    dtype = np.dtype(np.uint8 if largest < 256 else ">u2")
    whole = min(count, len(body) // dtype.itemsize)
    return np.frombuffer(body, dtype, whole).astype(np.uint8 if largest < 256 else np.uint16)


def _encode(picture: Picture) -> bytes:
    """Raw PGM for (h, w), PPM for (h, w, 3), with the maximal value 2^bits - 1."""
    samples, bits = picture.samples, picture.bits or 8
    kind = "P5" if samples.ndim == 2 else "P6"
    header = f"{kind}\n{samples.shape[1]} {samples.shape[0]}\n{2**bits - 1}\n"
    return header.encode() + samples.astype(np.uint8 if bits <= 8 else ">u2").tobytes()


def _decode(data: bytes) -> Decoded:
    samples, largest = _samples(data)
    bits = largest.bit_length()
    if largest == 2**bits - 1:
        return Decoded(samples, bits)
    note = f"maximal value {largest} is not 2^bits - 1: read as float"
    return Decoded((samples / largest).astype(np.float32), None, (note,))


FORMATS = (
    Format("PGM", (".pgm",), (b"P2", b"P5"), _declared, _decode, _encode, ANY, rgb=False),
    Format("PPM", (".ppm",), (b"P3", b"P6"), _declared, _decode, _encode, ANY, gray=False),
)
