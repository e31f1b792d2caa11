"""Decoding and encoding by Pillow, and helpers for all decoder libraries."""

from __future__ import annotations

import io
import os
import sys
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np

from magnetite.core.errors import FileError
from magnetite.core.picture import Picture
from magnetite.files.colours import colour_notes, light_of_profile, of_profile
from magnetite.files.formats._format import Decoded, separated


def decode(data: bytes) -> Decoded:
    """Samples of up to 8 bits, with the notes on their conversion."""
    image = open_image(data)
    turn, notes = orientation(image), [*colour_notes(of_profile(image.info.get("icc_profile")))]
    if (frames := getattr(image, "n_frames", 1)) > 1:
        notes.append(first_of(frames))
    if image.mode in ("P", "PA"):
        image.load()
        target = "RGBA" if image.has_transparency_data else "RGB"
        image = image.convert(target)
        notes.append("palette converted to RGB")
        if target == "RGB":
            samples = np.asarray(image)
            if (samples == samples[..., :1]).all():
                return Decoded(samples[..., 0], 8, ("gray palette converted to gray",), None, turn)
    elif image.mode in ("CMYK", "YCbCr", "LAB", "HSV"):
        notes.append(f"{image.mode} converted to RGB")
        image = image.convert("RGB")
    elif image.mode in ("L", "RGB") and "transparency" in image.info:
        image = image.convert(f"{image.mode}A")
    if image.mode == "1":
        return Decoded(np.asarray(image).astype(np.uint8), 1, tuple(notes), None, turn)
    if image.mode in ("LA", "RGBA"):
        return separated(np.asarray(image), 8, tuple(notes), turn)
    if image.mode not in ("L", "RGB"):
        raise FileError(f"pictures of mode {image.mode} are not read; convert it to PNG or TIFF")
    light = light_of_profile(image.info.get("icc_profile"))
    if light == "unknown" and image.format == "JPEG":
        light = "encoded"  # without a profile the samples are those of sRGB (ITU-T T.871)
    return Decoded(np.asarray(image), 8, tuple(notes), None, turn, light=light)


def first_of(frames: int) -> str:
    """Note on an animation."""
    return f"first of {frames} frames taken"


def open_image(data: bytes) -> Any:
    """The image by its header; samples are decoded when they are used."""
    from PIL import Image

    limit, Image.MAX_IMAGE_PIXELS = Image.MAX_IMAGE_PIXELS, None  # ours is checked by the callers
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of damaged metadata
            return Image.open(io.BytesIO(data))
    finally:
        Image.MAX_IMAGE_PIXELS = limit


def orientation(image: Any) -> int:
    """EXIF orientation, 1 where there is none."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # a damaged EXIF block says nothing of the samples
        try:
            return int(image.getexif().get(274, 1))
        except (TypeError, ValueError):
            return 1


def declared(data: bytes) -> int:
    """Samples that the header declares."""
    image = open_image(data)
    return int(image.width * image.height * len(image.getbands()))


def encoder(name: str, **options: object) -> Callable[[Picture], bytes]:
    """Encoder of a format by its name in Pillow."""

    def encode(picture: Picture) -> bytes:
        from PIL import Image

        buffer = io.BytesIO()
        Image.fromarray(np.ascontiguousarray(picture.samples)).save(buffer, name, **options)
        return buffer.getvalue()

    return encode


@contextmanager
def silent() -> Iterator[None]:
    """Discard messages of decoder libraries on the process's standard error."""
    sys.stderr.flush()
    kept = os.dup(2)
    try:
        with open(os.devnull, "wb") as nothing:
            os.dup2(nothing.fileno(), 2)
            yield
    finally:
        os.dup2(kept, 2)
        os.close(kept)
