"""File formats of pictures: the declarations of their headers, and their samples."""

from __future__ import annotations

import io
import math
import os
import sys
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.codecs.layers.headers import jpeg2000_size, size_of
from magnetite.core.errors import FileError
from magnetite.core.picture.frame import Light
from magnetite.files import marks, netpbm, png
from magnetite.files.colours import (
    check_subsampling,
    colour_notes,
    from_ycbcr,
    light_of_png,
    light_of_profile,
    light_of_tiff,
    of_png,
    of_profile,
)
from magnetite.files.raw import is_linear, is_mosaic, main_page, mosaic_notes


@dataclass(frozen=True)
class Decoded:
    """Samples as a file holds them; `bits` is None where the sample type says it all."""

    samples: Samples
    bits: int | None = None
    notes: tuple[str, ...] = ()
    alpha: Samples | None = None
    orientation: int = 1
    #: Whether the last axis counts pages, not colours.
    stack: bool = False
    #: Relation of the samples to light, where the file states it.
    light: Light = "unknown"


def format_of(data: bytes) -> tuple[Callable[[bytes], int], Callable[[bytes], Decoded]]:
    """Functions that count a file's samples, and decode it; `FileError` for unknown formats."""
    for begins, size, decoder in _FORMATS:
        if data.startswith(begins):
            return size, decoder
    raise FileError(
        "not a picture in a known format; known are PNG, TIFF, JPEG, BMP, PGM, PPM, WebP, "
        "JPEG 2000, NPY and .mgt"
    )


def _split_alpha(samples: Samples) -> tuple[Samples, Samples]:
    colour = samples[..., :-1]
    return (colour[..., 0] if colour.shape[-1] == 1 else colour), samples[..., -1]


def _separated(samples: Samples, bits: int | None, notes: tuple[str, ...], turn: int) -> Decoded:
    """Samples whose last channel is alpha."""
    samples, alpha = _split_alpha(samples)
    note = "alpha channel set aside: it is neither processed nor scored"
    return Decoded(samples, bits, (*notes, note), alpha, turn)


def _decode_png(data: bytes) -> Decoded:
    import imagecodecs

    layout = png.read_layout(data)
    said = colour_notes(of_png(layout.colours))
    if layout.unequal:
        each = ", ".join(map(str, layout.unequal))
        said += (f"significant bits differ between channels ({each}): they are not used",)
    if layout.frames > 1:
        said += (_first_of(layout.frames),)
    data = png.essential(data)
    if layout.depth == 16:
        with _silent():
            samples = imagecodecs.png_decode(data)
        turn = _orientation(_open(data))
        alpha = samples.ndim == 3 and samples.shape[2] in (2, 4)
        decoded = (
            _separated(samples, 16, (), turn) if alpha else Decoded(samples, 16, orientation=turn)
        )
    else:
        decoded = _decode_plain(data)
        if layout.colour_type == 0 and layout.depth in (2, 4) and decoded.bits == 8:
            scale = 255 // (2**layout.depth - 1)
            decoded = replace(decoded, samples=decoded.samples // scale, bits=layout.depth)
    decoded = _significant(decoded, layout.significant)
    return replace(decoded, notes=(*decoded.notes, *said), light=light_of_png(layout.colours))


def _first_of(frames: int) -> str:
    return f"first of {frames} frames taken"


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


def _decode_plain(data: bytes) -> Decoded:
    """PNG up to 8 bits, JPEG, BMP."""
    image = _open(data)
    turn, notes = _orientation(image), [*colour_notes(of_profile(image.info.get("icc_profile")))]
    if (frames := getattr(image, "n_frames", 1)) > 1:
        notes.append(_first_of(frames))
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
        return _separated(np.asarray(image), 8, tuple(notes), turn)
    if image.mode not in ("L", "RGB"):
        raise FileError(f"pictures of mode {image.mode} are not read; convert it to PNG or TIFF")
    light = light_of_profile(image.info.get("icc_profile"))
    if light == "unknown" and image.format == "JPEG":
        light = "encoded"  # without a profile the samples are those of sRGB (ITU-T T.871)
    return Decoded(np.asarray(image), 8, tuple(notes), None, turn, light=light)


def _open(data: bytes) -> Any:
    from PIL import Image

    limit, Image.MAX_IMAGE_PIXELS = Image.MAX_IMAGE_PIXELS, None  # ours is checked by the callers
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of damaged metadata
            return Image.open(io.BytesIO(data))
    finally:
        Image.MAX_IMAGE_PIXELS = limit


def _orientation(image: Any) -> int:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # a damaged EXIF block says nothing of the samples
        try:
            return int(image.getexif().get(274, 1))
        except (TypeError, ValueError):
            return 1


def _samples_of_image(data: bytes) -> int:
    image = _open(data)
    return int(image.width * image.height * len(image.getbands()))


def _samples_of_jpeg2000(data: bytes) -> int:
    size = size_of(jpeg2000_size, data)
    return size.height * size.width * (size.components or 1)


def _samples_of_npy(data: bytes) -> int:
    file = io.BytesIO(data)
    version = np.lib.format.read_magic(file)
    read = np.lib.format.read_array_header_1_0
    shape, _, dtype = (read if version == (1, 0) else np.lib.format.read_array_header_2_0)(file)
    if dtype.kind not in "buif" or dtype.itemsize == 0:
        raise FileError(f"an NPY file with samples of type {dtype} is not a picture")
    count = math.prod(shape)
    if len(data) - file.tell() < count * dtype.itemsize:
        raise FileError("the NPY file is truncated")
    return count


def _samples_of_tiff(data: bytes) -> int:
    with _tiff(data) as tiff:
        pages = _stacked(tiff) or [main_page(tiff)]
        return int(math.prod(pages[0].shape)) * len(pages)


def _decode_webp(data: bytes) -> Decoded:
    if data[8:12] != b"WEBP":
        raise FileError("a RIFF file, but no WebP picture")
    decoded = _decode_plain(data)
    samples = decoded.samples
    if samples.ndim == 3 and (samples == samples[..., :1]).all():
        note = "three equal channels read as gray (WebP has no gray)"
        return replace(decoded, samples=samples[..., 0], notes=(*decoded.notes, note))
    return decoded


def _decode_netpbm(data: bytes) -> Decoded:
    samples, largest = netpbm.decode(data)
    bits = largest.bit_length()
    if largest == 2**bits - 1:
        return Decoded(samples, bits)
    note = f"maximal value {largest} is not 2^bits - 1: read as float"
    return Decoded((samples / largest).astype(np.float32), None, (note,))


@contextmanager
def _silent() -> Iterator[None]:
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


def _decode_jpeg2000(data: bytes) -> Decoded:
    import imagecodecs

    with _silent():
        samples = imagecodecs.jpeg2k_decode(data)
    if not np.issubdtype(samples.dtype, np.unsignedinteger):
        raise FileError(f"JPEG 2000 with samples of type {samples.dtype} is not read")
    # Depth of the first component, in the size marker (ITU-T T.800, A.5.1).
    depth = (data[data.index(b"\xff\x4f\xff\x51") + 42] & 0x7F) + 1
    if depth > 16:
        raise FileError(f"{depth} bits a sample are read from TIFF or NPY only, as float")
    if samples.ndim == 3 and samples.shape[2] in (2, 4):  # gray or RGB, and opacity
        return _separated(samples, depth, (), 1)
    return Decoded(samples, depth)


def _tiff(data: bytes) -> Any:
    import logging

    import tifffile

    logging.getLogger("tifffile").setLevel(logging.CRITICAL)
    return tifffile.TiffFile(io.BytesIO(data))


def _decode_tiff(data: bytes) -> Decoded:
    with _tiff(data) as tiff:
        page, count = main_page(tiff), len(tiff.pages)
        ends = [o + c for o, c in zip(page.dataoffsets, page.databytecounts, strict=True)]
        if max(ends) > len(data):
            raise FileError("the TIFF is truncated")
        axes, bits, photometric = page.axes, page.bitspersample, page.photometric.name
        samples = _samples_of_page(page)
        extra = [sample.name for sample in page.extrasamples]
        colormap = page.colormap
        tag = page.tags.get(274)
        profile = page.tags.get(34675)
        pages = _stacked(tiff)
        stack = np.stack([one.asarray() for one in pages], axis=-1) if pages else None
        raw = mosaic_notes(page) if is_mosaic(page) else ()
        light: Light = "linear" if raw and is_linear(page) else light_of_tiff(page)
    notes = () if count == 1 else (f"first of {count} pages taken",)
    if stack is not None:
        samples, notes = stack, (f"{count} pages read as a stack of planes",)
    if photometric == "YCBCR":
        notes = (*notes, "YCbCr converted to RGB")
    notes = (*notes, *colour_notes(of_profile(profile.value if profile is not None else None)))
    turn = int(tag.value) if tag is not None else 1
    if axes == "SYX":
        samples = np.moveaxis(samples, 0, -1)
    elif axes not in ("YX", "YXS"):
        raise FileError(f"a TIFF page with axes {axes} is not a picture")
    if photometric == "PALETTE" and colormap is not None:
        return Decoded(
            np.moveaxis(colormap[:, samples], 0, -1), 16, (*notes, "palette converted to RGB"),
            None, turn,
        )  # fmt: skip
    notes = (*notes, *raw)
    if photometric not in ("MINISBLACK", "MINISWHITE", "RGB", "YCBCR", "CFA"):
        raise FileError(f"TIFF of kind {photometric} is not read; convert it to RGB or gray")
    if samples.dtype == bool:
        samples = samples.astype(np.uint8)
    whole = np.issubdtype(samples.dtype, np.unsignedinteger) and bits <= 16
    if photometric == "MINISWHITE":
        if not whole:
            raise FileError("a TIFF with white as 0 is read with 1 to 16 bits only")
        samples = samples.dtype.type(2**bits - 1) - samples
        notes = (*notes, "white-is-zero turned round")
    if extra[-1:] and extra[-1] in ("ASSOCALPHA", "UNASSALPHA"):
        return _separated(samples, bits if whole else None, notes, turn)
    return Decoded(samples, bits if whole else None, notes, None, turn, stack is not None, light)


def _samples_of_page(page: Any) -> Samples:
    """Samples of a TIFF page; JPEG decoders convert YCbCr themselves, others leave it."""
    if page.photometric.name != "YCBCR" or page.compression.name in ("JPEG", "OJPEG"):
        return np.asarray(page.asarray())
    check_subsampling(page)
    return from_ycbcr(page.asarray(), page.bitspersample, page)


def _stacked(tiff: Any) -> list[Any]:
    """All pages, where there are several, gray and alike; none otherwise."""
    pages = [page.aspage() for page in tiff.pages] if len(tiff.pages) > 1 else []
    kinds = {(p.axes, p.shape, p.dtype, p.photometric.name, p.bitspersample) for p in pages}
    if len(kinds) != 1 or pages[0].axes != "YX" or not pages[0].photometric.name.startswith("MIN"):
        return []
    return pages


def _decode_npy(data: bytes) -> Decoded:
    array = np.load(io.BytesIO(data), allow_pickle=False)
    return Decoded(array.astype(array.dtype.newbyteorder("=")))


#: Signature of each format, the count of samples that its header declares, its decoder.
_FORMATS: list[tuple[tuple[bytes, ...], Callable[[bytes], int], Callable[[bytes], Decoded]]] = [
    ((png.SIGNATURE,), png.declared_samples, _decode_png),
    ((b"\xff\xd8\xff", b"BM"), _samples_of_image, _decode_plain),
    (marks.TIFF, _samples_of_tiff, _decode_tiff),
    ((b"P2", b"P3", b"P5", b"P6"), netpbm.declared_samples, _decode_netpbm),
    ((b"RIFF",), _samples_of_image, _decode_webp),
    ((b"\0\0\0\x0cjP  ", b"\xff\x4f\xff\x51"), _samples_of_jpeg2000, _decode_jpeg2000),
    (marks.NPY, _samples_of_npy, _decode_npy),
]
