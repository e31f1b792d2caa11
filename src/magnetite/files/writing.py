"""Write pictures: without loss, or with a note on the loss."""

from __future__ import annotations

import io
import math
import os
from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager, ExitStack, nullcontext
from dataclasses import dataclass
from itertools import chain, islice
from pathlib import Path
from typing import Any

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.codecs.yardsticks import encode_png
from magnetite.core.errors import FileError
from magnetite.core.metrics.error import psnr
from magnetite.core.picture import Frame, Picture
from magnetite.core.picture.rows import joined
from magnetite.files import netpbm, png
from magnetite.files.atomic import check_writable, replacing, write_bytes
from magnetite.files.colours import LINEAR_GAMMA, linear_transfer

JPEG_QUALITY = 95
#: Rows of a strip of a TIFF that is written in bands.
_STRIP = 64


@dataclass(frozen=True)
class Format:
    """Depths and colours that a file format holds, and its encoder."""

    name: str
    encode: Callable[[Picture], bytes]
    depths: range
    floats: bool = False
    planes: bool = False
    gray: bool = True
    rgb: bool = True
    #: One bit in each of several channels is beyond some encoders.
    bilevel_colour: bool = True

    #: Whether it is written in bands of rows, as they come.
    streamed: bool = False

    def holds(self, frame: Frame) -> bool:
        """Whether a picture's depth and colour fit."""
        depth = self.floats if frame.bits is None else frame.bits in self.depths
        if frame.bits == 1 and frame.colour != "gray" and not self.bilevel_colour:
            return False
        return depth and {"gray": self.gray, "rgb": self.rgb, "planes": self.planes}[frame.colour]


def write(picture: Picture, path: str | os.PathLike[str]) -> tuple[str, ...]:
    """Write a picture in the format that the file's ending names, whole or not at all.

    All formats keep every sample, except JPEG (quality 95, full chroma), which says by how
    much the file differs.

    Returns
    -------
    tuple of str
        Notes on the file for the user; empty where it holds the picture exactly.

    Raises
    ------
    FileError
        If the format is unknown or cannot hold the picture, or the file cannot be written.

    Examples
    --------
    >>> import numpy as np
    >>> import magnetite
    >>> ramp = np.tile(np.arange(200, dtype=np.uint8), (64, 1))
    >>> magnetite.write(magnetite.convert(ramp, "gray"), "ramp.png")
    ()
    """
    data, messages = encoded(picture, Path(path))
    write_bytes(Path(path), data)
    return messages + _certificate_note(Path(path))


def encoded(picture: Picture, path: Path) -> tuple[bytes, tuple[str, ...]]:
    """Bytes and notes of the file that `write` would write; the same errors."""
    check_output(picture.frame, path)
    kind = _format(path)
    data = kind.encode(picture)
    if kind.name == "JPEG":
        return data, (_jpeg_loss(picture, data, path),)
    return data, _depth_note(picture.frame, path)


#: Context that writes a companion of a file, such as its certificate, given the notes on it.
Companion = Callable[[tuple[str, ...]], AbstractContextManager[object]]


def write_rows(
    path: Path, frame: Frame, bands: Iterable[Picture], companion: Companion | None = None
) -> tuple[str, ...]:
    """Write a picture from its bands, whole or not at all; the notes of `write`.

    TIFF (BigTIFF from 4 GiB) and NPY are written band by band, other formats once all bands are
    there.

    Raises
    ------
    FileError
        As `write`.
    """
    coming = iter(bands)
    first = list(islice(coming, 2))
    kind = _format(path)
    stale = _certificate_note(path) if companion is None else ()
    context = companion or nullcontext
    if len(first) == 1 or not kind.streamed:
        data, notes = encoded(joined(chain(first, coming)), path)
        with context(notes):
            write_bytes(path, data)
        return notes + stale
    check_output(frame, path)
    notes = _depth_note(frame, path)
    writer = _stream_npy if kind.name == "NPY" else _stream_tiff
    with ExitStack() as stack, replacing(path) as temporary:
        writer(temporary, frame, chain(first, coming))
        stack.enter_context(context(notes))
    return notes + stale


def certificate_path(picture: Path) -> Path:
    """`tile.png` has its certificate in `tile.png.cert.json`.

    Raises
    ------
    FileError
        If the path has no name.
    """
    if not picture.name:
        raise FileError(f"{str(picture)!r} does not name a file")
    return picture.with_name(picture.name + ".cert.json")


def _certificate_note(path: Path) -> tuple[str, ...]:
    """A note if there is a certificate of an earlier file of the same name."""
    sidecar = certificate_path(path)
    return (f"{sidecar} is the certificate of an earlier file",) if sidecar.is_file() else ()


def _depth_note(frame: Frame, path: Path) -> tuple[str, ...]:
    if _format(path).name != "NPY" or frame.bits in (None, 8, 16):
        return ()
    scale = f"{frame.full_scale:g}"
    return (f"{path}: NPY does not hold the bit depth; read it with a full scale of {scale}",)


def lossless_ending(picture: Picture) -> str:
    """Ending of a file that keeps every sample: PNG where it holds the picture, TIFF otherwise."""
    return ".tif" if picture.bits is None or picture.colour == "planes" else ".png"


def check_output(frame: Frame, path: Path, *, banded: bool = False) -> None:
    """Raise `FileError` if a picture like this one could not be written there.

    `banded` says that all of it is too large for the memory allowed.
    """
    kind = _format(path)
    check_writable(path)
    if banded and not kind.streamed:
        raise FileError(
            f"{path}: a picture that is worked on in bands is written as .tif or .npy; name one, "
            "or allow more memory (--memory)"
        )
    if not kind.holds(frame):
        able = [suffix for suffix, other in FORMATS.items() if other.holds(frame)]
        raise FileError(
            f"{path}: {kind.name} cannot hold a picture of {frame.describe()}; "
            f"write {' or '.join(able[:2])}"
        )


def check_format(path: Path) -> None:
    """Raise `FileError` if the file's ending names no format, or its folder is not there."""
    _format(path)
    check_writable(path)


def _format(path: Path) -> Format:
    kind = FORMATS.get(path.suffix.lower())
    if kind is None:
        ending = f"the ending {path.suffix!r} names" if path.suffix else "no ending: that names"
        raise FileError(f"{path}: {ending} no known format; known: {', '.join(FORMATS)}")
    return kind


def _jpeg_loss(picture: Picture, data: bytes, path: Path) -> str:
    from PIL import Image

    again = np.asarray(Image.open(io.BytesIO(data)))
    loss = psnr(picture.samples, again, 255)
    return (
        f"{path}: JPEG is lossy; the file differs from the picture described here "
        f"(PSNR {loss:.2f} dB between them); write .png to keep it exactly"
    )


def _encode_png(picture: Picture) -> bytes:
    data = _samples_as_png(picture)
    return png.with_chunk(data, b"gAMA", LINEAR_GAMMA) if picture.light == "linear" else data


def _samples_as_png(picture: Picture) -> bytes:
    bits = picture.bits or 8
    if bits in (8, 16):
        return encode_png(picture.samples, 6)
    stored = 8 if bits < 8 else 16
    scale = (2**stored - 1) / picture.full_scale
    samples = np.rint(picture.samples * scale).astype(np.uint8 if stored == 8 else np.uint16)
    data = encode_png(samples, 6)
    return png.with_chunk(data, b"sBIT", bytes([bits] * picture.channels))


def _encode_tiff(picture: Picture) -> bytes:
    import tifffile

    buffer = io.BytesIO()
    tifffile.imwrite(buffer, _tiff_samples(picture), **_tiff_options(picture.frame))
    return buffer.getvalue()


def _tiff_samples(picture: Picture) -> Samples:
    return picture.samples.astype(bool) if picture.bits == 1 else picture.samples


def _stream_tiff(path: Path, frame: Frame, bands: Iterator[Picture]) -> None:
    import tifffile

    first = next(bands)

    def strips() -> Iterator[Samples]:
        for picture in chain([first], bands):
            for start in range(0, picture.height, _STRIP):
                part = picture.part(slice(start, min(start + _STRIP, picture.height)))
                yield np.ascontiguousarray(_tiff_samples(part))

    samples = _tiff_samples(first)
    size = math.prod(frame.shape) * samples.dtype.itemsize
    with tifffile.TiffWriter(path, bigtiff=size >= 2**32 - 2**24) as tiff:
        tiff.write(
            strips(), shape=frame.shape, dtype=samples.dtype, rowsperstrip=_STRIP,
            **_tiff_options(frame),
        )  # fmt: skip


def _tiff_options(picture: Frame) -> dict[str, Any]:
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


def _by_pillow(name: str, **options: object) -> Callable[[Picture], bytes]:
    def encode(picture: Picture) -> bytes:
        from PIL import Image

        buffer = io.BytesIO()
        Image.fromarray(np.ascontiguousarray(picture.samples)).save(buffer, name, **options)
        return buffer.getvalue()

    return encode


def _encode_webp(picture: Picture) -> bytes:
    import imagecodecs

    samples = np.ascontiguousarray(picture.samples)
    if picture.colour == "gray":
        samples = np.repeat(samples[..., np.newaxis], 3, axis=2)
    return bytes(imagecodecs.webp_encode(samples, lossless=True))


def _encode_jpeg2000(picture: Picture) -> bytes:
    import imagecodecs

    samples = np.ascontiguousarray(picture.samples)
    return bytes(
        imagecodecs.jpeg2k_encode(
            samples, level=0, reversible=True, bitspersample=picture.bits, codecformat="jp2"
        )
    )


def _encode_netpbm(picture: Picture) -> bytes:
    return netpbm.encode(picture.samples, picture.bits or 8)


def _encode_npy(picture: Picture) -> bytes:
    buffer = io.BytesIO()
    np.save(buffer, np.ascontiguousarray(picture.samples), allow_pickle=False)
    return buffer.getvalue()


def _stream_npy(path: Path, frame: Frame, bands: Iterator[Picture]) -> None:
    first = next(bands)
    descr = np.lib.format.dtype_to_descr(first.samples.dtype)
    header = {"descr": descr, "fortran_order": False, "shape": frame.shape}
    with open(path, "wb") as file:
        np.lib.format.write_array_header_1_0(file, header)
        for picture in chain([first], bands):
            np.ascontiguousarray(picture.samples).tofile(file)


_ANY = range(1, 17)
_BYTE = range(8, 9)
_PNG = Format("PNG", _encode_png, _ANY)
_TIFF = Format(
    "TIFF", _encode_tiff, _ANY, floats=True, planes=True, bilevel_colour=False, streamed=True
)
_JPEG = Format("JPEG", _by_pillow("JPEG", quality=JPEG_QUALITY, subsampling=0), _BYTE)
_JPEG2000 = Format("JPEG 2000", _encode_jpeg2000, _ANY)

FORMATS: dict[str, Format] = {
    ".png": _PNG,
    ".tif": _TIFF,
    ".npy": Format("NPY", _encode_npy, _ANY, floats=True, planes=True, streamed=True),
    ".tiff": _TIFF,
    ".jpg": _JPEG,
    ".jpeg": _JPEG,
    ".bmp": Format("BMP", _by_pillow("BMP"), _BYTE),
    ".pgm": Format("PGM", _encode_netpbm, _ANY, rgb=False),
    ".ppm": Format("PPM", _encode_netpbm, _ANY, gray=False),
    ".webp": Format("WebP", _encode_webp, _BYTE),
    ".jp2": _JPEG2000,
}
