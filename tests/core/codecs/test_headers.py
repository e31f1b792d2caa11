"""Sizes in headers against files that another library writes."""

from __future__ import annotations

import io

import numpy as np
import pytest
from PIL import Image

from magnetite.core.codecs.layers.headers import Size, jpeg_size, webp_size


@pytest.mark.parametrize(("width", "height"), [(37, 21), (300, 513), (1, 1)])
@pytest.mark.parametrize(
    ("kind", "options"),
    [(b"VP8 ", {}), (b"VP8L", {"lossless": True}), (b"VP8X", {"icc_profile": b"x" * 128})],
)
def test_webp_of_every_bitstream(width: int, height: int, kind: bytes, options: dict) -> None:
    rng = np.random.default_rng(1)
    image = Image.fromarray(rng.integers(0, 256, (height, width, 3)).astype(np.uint8))
    text = io.BytesIO()
    image.save(text, "webp", **options)
    assert text.getvalue()[12:16] == kind
    assert webp_size(text.getvalue()) == Size(height, width)


@pytest.mark.parametrize("marker", [0xC4, 0xC8, 0xCC])
def test_segments_before_a_frame_header_are_none(marker: int) -> None:
    """Huffman tables, extensions and arithmetic conditioning have markers among those of frames."""
    text = io.BytesIO()
    Image.fromarray(np.zeros((21, 37, 3), np.uint8)).save(text, "jpeg")
    data = text.getvalue()
    segment = bytes([0xFF, marker, 0, 9]) + bytes(range(1, 8))
    filled = data[:2] + segment + b"\xff" + data[2:]
    assert jpeg_size(data) == jpeg_size(filled) == Size(21, 37, 3)
