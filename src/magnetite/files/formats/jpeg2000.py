"""JPEG 2000 (ITU-T T.800), written without loss."""

from __future__ import annotations

import numpy as np

from magnetite.core.codecs.layers.headers import jpeg2000_size, size_of
from magnetite.core.errors import FileError
from magnetite.core.picture import Picture
from magnetite.files.formats._format import ANY, Decoded, Format, separated
from magnetite.files.formats._images import silent


def _declared(data: bytes) -> int:
    size = size_of(jpeg2000_size, data)
    return size.height * size.width * (size.components or 1)


def _decode(data: bytes) -> Decoded:
    import imagecodecs

    with silent:
        samples = imagecodecs.jpeg2k_decode(data)
    if not np.issubdtype(samples.dtype, np.unsignedinteger):
        raise FileError(f"JPEG 2000 with samples of type {samples.dtype} is not read")
    # Depth of the first component, in the size marker (ITU-T T.800, A.5.1).
    depth = (data[data.index(b"\xff\x4f\xff\x51") + 42] & 0x7F) + 1
    if depth > 16:
        raise FileError(f"{depth} bits a sample are read from TIFF or NPY only, as float")
    if samples.ndim == 3 and samples.shape[2] in (2, 4):  # gray or RGB, and opacity
        return separated(samples, depth, (), 1)
    return Decoded(samples, depth)


def _encode(picture: Picture) -> bytes:
    import imagecodecs

    samples = np.ascontiguousarray(picture.samples)
    return bytes(
        imagecodecs.jpeg2k_encode(
            samples, level=0, reversible=True, bitspersample=picture.bits, codecformat="jp2"
        )
    )


#: Signatures of the container (Annex I) and of the bare codestream.
_MARKS = (b"\0\0\0\x0cjP  ", b"\xff\x4f\xff\x51")

FORMATS = (Format("JPEG 2000", (".jp2",), _MARKS, _declared, _decode, _encode, ANY),)
