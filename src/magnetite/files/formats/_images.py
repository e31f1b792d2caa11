"""Decoding and encoding by Pillow, and helpers for all decoder libraries."""

from __future__ import annotations

import io
import os
import sys
import warnings
from collections.abc import Callable
from threading import Lock
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


#: Held while settings of the process are changed, which threads share.
_settings = Lock()


def open_image(data: bytes) -> Any:
    """The image by its header; samples are decoded when they are used."""
    from PIL import Image

    with _settings:
        limit, Image.MAX_IMAGE_PIXELS = Image.MAX_IMAGE_PIXELS, None  # callers check ours
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")  # of damaged metadata
                return Image.open(io.BytesIO(data))
        finally:
            Image.MAX_IMAGE_PIXELS = limit


def orientation(image: Any) -> int:
    """EXIF orientation, 1 where there is none."""
    with _settings, warnings.catch_warnings():
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


class _Silence:
    """Context in which messages of decoder libraries on standard error are discarded.

    It is the process's own, so it is redirected while any thread decodes.
    """

    def __init__(self) -> None:
        self._lock, self._threads, self._kept = Lock(), 0, -1

    def __enter__(self) -> None:
        with self._lock:
            self._threads += 1
            if self._threads > 1:
                return
            sys.stderr.flush()
            self._kept = os.dup(2)
            with open(os.devnull, "wb") as nothing:
                os.dup2(nothing.fileno(), 2)

    def __exit__(self, *error: object) -> None:
        with self._lock:
            self._threads -= 1
            if self._threads == 0:
                os.dup2(self._kept, 2)
                os.close(self._kept)


silent = _Silence()
