"""WebP, written without loss."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from magnetite.core.errors import FileError
from magnetite.core.picture import Picture
from magnetite.files.formats import _images
from magnetite.files.formats._format import BYTE, Decoded, Format


def _decode(data: bytes) -> Decoded:
    if data[8:12] != b"WEBP":
        raise FileError("a RIFF file, but no WebP picture")
    decoded = _images.decode(data)
    samples = decoded.samples
    if samples.ndim == 3 and (samples == samples[..., :1]).all():
        note = "three equal channels read as gray (WebP has no gray)"
        return replace(decoded, samples=samples[..., 0], notes=(*decoded.notes, note))
    return decoded


def _encode(picture: Picture) -> bytes:
    import imagecodecs

    samples = np.ascontiguousarray(picture.samples)
    if picture.colour == "gray":
        samples = np.repeat(samples[..., np.newaxis], 3, axis=2)
    return bytes(imagecodecs.webp_encode(samples, lossless=True))


FORMATS = (Format("WebP", (".webp",), (b"RIFF",), _images.declared, _decode, _encode, BYTE),)
