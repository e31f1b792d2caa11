"""JPEG (ITU-T T.81, T.871)."""

from __future__ import annotations

from magnetite.files.formats import _images
from magnetite.files.formats._format import BYTE, Format

QUALITY = 95

FORMATS = (
    Format(
        "JPEG",
        (".jpg", ".jpeg"),
        (b"\xff\xd8\xff",),
        _images.declared,
        _images.decode,
        _images.encoder("JPEG", quality=QUALITY, subsampling=0),
        BYTE,
        lossless=False,
    ),
)
