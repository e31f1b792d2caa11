"""Windows bitmaps."""

from __future__ import annotations

from magnetite.files.formats import _images
from magnetite.files.formats._format import BYTE, Format

FORMATS = (
    Format(
        "BMP", (".bmp",), (b"BM",), _images.declared, _images.decode, _images.encoder("BMP"), BYTE
    ),
)
