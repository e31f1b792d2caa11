"""TIFF: one page, or a stack of pages as planes; raw mosaics."""

from __future__ import annotations

import io
import math
from collections.abc import Iterator
from itertools import chain
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.errors import FileError
from magnetite.core.picture import Frame, Picture
from magnetite.core.picture.frame import Light
from magnetite.files.colours import (
    check_subsampling,
    colour_notes,
    from_ycbcr,
    light_of_tiff,
    linear_transfer,
    of_profile,
)
from magnetite.files.formats._format import ANY, Decoded, Format, separated
from magnetite.files.raw import is_linear, is_mosaic, main_page, mosaic_notes

#: Classic TIFF and BigTIFF, either byte order.
MARKS = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")
#: Rows of a strip of a TIFF that is written in bands.
_STRIP = 64


def open_tiff(file: BinaryIO, name: str | None = None) -> Any:
    """The pages of a file by their tags; messages of the decoder library are discarded."""
    import logging

    import tifffile

    logging.getLogger("tifffile").setLevel(logging.CRITICAL)
    return tifffile.TiffFile(file, name=name)


def _declared(data: bytes) -> int:
    with open_tiff(io.BytesIO(data)) as tiff:
        pages = _stacked(tiff) or [main_page(tiff)]
        return int(math.prod(pages[0].shape)) * len(pages)


def _decode(data: bytes) -> Decoded:
    with open_tiff(io.BytesIO(data)) as tiff:
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
        notes = (*notes, "white-is-zero inverted")
    if extra[-1:] and extra[-1] in ("ASSOCALPHA", "UNASSALPHA"):
        return separated(samples, bits if whole else None, notes, turn)
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


def _encode(picture: Picture) -> bytes:
    import tifffile

    buffer = io.BytesIO()
    tifffile.imwrite(buffer, _stored(picture), **_options(picture.frame))
    return buffer.getvalue()


def _stored(picture: Picture) -> Samples:
    return picture.samples.astype(bool) if picture.bits == 1 else picture.samples


def _stream(path: Path, frame: Frame, bands: Iterator[Picture]) -> None:
    import tifffile

    first = next(bands)

    def strips() -> Iterator[Samples]:
        for picture in chain([first], bands):
            for start in range(0, picture.height, _STRIP):
                part = picture.part(slice(start, min(start + _STRIP, picture.height)))
                yield np.ascontiguousarray(_stored(part))

    samples = _stored(first)
    size = math.prod(frame.shape) * samples.dtype.itemsize
    with tifffile.TiffWriter(path, bigtiff=size >= 2**32 - 2**24) as tiff:
        tiff.write(
            strips(), shape=frame.shape, dtype=samples.dtype, rowsperstrip=_STRIP,
            **_options(frame),
        )  # fmt: skip


def _options(picture: Frame) -> dict[str, Any]:
    """Tags of a TIFF on its samples."""
    options: dict[str, Any] = {
        "photometric": "rgb" if picture.colour == "rgb" else "minisblack",
        "metadata": None,
        "software": "magnetite",
    }
    if picture.bits not in (None, 8, 16):
        options["bitspersample"] = picture.bits
    if picture.colour == "planes":
        options |= {"extrasamples": [0] * (picture.channels - 1), "planarconfig": "contig"}
    if picture.light == "linear":
        options["extratags"] = linear_transfer(picture.bits)
    return options


FORMATS = (
    Format(
        "TIFF", (".tif", ".tiff"), MARKS, _declared, _decode, _encode, ANY,
        floats=True, planes=True, bilevel_colour=False, stream=_stream, rank=1,
    ),
)  # fmt: skip
