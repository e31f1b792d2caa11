"""Read pictures: what a file is follows from its bytes, never from its name."""

from __future__ import annotations

import io
import math
import os
import stat
import sys
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from magnetite.core.codecs.container import MAGIC
from magnetite.core.codecs.headers import jpeg2000_size, size_of
from magnetite.core.codecs.stream import expand
from magnetite.core.errors import FileError, MagnetiteError, PictureError
from magnetite.core.limits import MAX_SAMPLES, check_samples
from magnetite.core.picture import LARGEST_FLOAT, Picture, Samples, as_picture, beyond_range
from magnetite.files import netpbm, png

#: Smallest full scale of float samples; its inverse is the largest.
_LEAST_SCALE = 1e-9
#: Samples may reach so many times the full scale that the user names.
_FURTHEST = 1e6
#: Largest weight of a kernel: what is summed up and squared stays a number.
_LARGEST_WEIGHT = 1e30


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


def read(
    path: str | os.PathLike[str],
    *,
    full_scale: float | None = None,
    max_samples: int = MAX_SAMPLES,
) -> Picture:
    """Read a picture: PNG, TIFF, JPEG, BMP, PGM, PPM, WebP, JPEG 2000, NPY or `.mgt`.

    EXIF orientation is applied; palettes and CMYK are converted, alpha is set aside, and the
    picture's `notes` say so.

    Parameters
    ----------
    path : path
    full_scale : float, optional
        The sample value that means full scale, where the file does not say: 4095 for 12 bits
        in a file of 16, 255 for float samples on 0..255.
    max_samples : int
        Files whose headers declare more samples are refused before they are decoded.

    Raises
    ------
    FileError
        If the file is missing, damaged, of an unknown kind, too large, or its full scale is
        unclear.
    PictureError
        If a sample is NaN or infinite.
    """
    path = Path(path)
    data = read_bytes(path)
    try:
        if data.startswith(MAGIC):
            return replace(expand(data, max_samples=max_samples), origin=str(path))
        size, decoder = _format(data)
        check_samples(size(data), max_samples)
        decoded = _oriented(decoder(data))
        return _as_picture(decoded, str(path), full_scale)
    except MagnetiteError as error:
        message = str(error)
        kind = type(error)
        raise kind(message if str(path) in message else f"{path}: {message}") from None
    except MemoryError:
        raise FileError(f"{path}: the picture does not fit into memory") from None
    except Exception as error:  # decoder libraries raise whatever they like on damaged files
        raise FileError(f"{path}: the file is damaged ({_first_line(error)})") from None


def read_kernel(path: str | os.PathLike[str]) -> Samples:
    """Weights of a convolution kernel from a gray picture or NPY, float64, shape (h, w).

    Raises
    ------
    FileError
        If the file cannot be read.
    PictureError
        If it holds anything but one plane of numbers.
    """
    data = read_bytes(Path(path))
    if data.startswith(b"\x93NUMPY"):
        try:
            array = np.load(io.BytesIO(data), allow_pickle=False)
        except ValueError as error:
            raise FileError(f"{path}: the file is damaged ({_first_line(error)})") from None
    else:
        array = read(path).samples
    if array.ndim != 2 or array.size == 0 or array.dtype.kind not in "uif":
        raise PictureError(f"{path}: a kernel is one gray plane of numbers, not {array.shape}")
    weights = np.asarray(array, dtype=np.float64)
    if not np.isfinite(weights).all() or np.abs(weights).max() > _LARGEST_WEIGHT:
        raise PictureError(f"{path}: a kernel's weights are finite and at most {_LARGEST_WEIGHT:g}")
    return weights


def read_bytes(path: Path) -> bytes:
    """The whole file; raises `FileError` if it is missing, unreadable, empty or a device."""
    if path.is_dir():
        raise FileError(f"{path}: is a folder; name a file in it")
    try:
        if stat.S_ISBLK(mode := path.stat().st_mode) or (stat.S_ISCHR(mode) and not _ends(path)):
            raise FileError(f"{path}: is a device, not a file")
        data = path.read_bytes()
    except FileNotFoundError:
        raise FileError(f"{path}: no such file") from None
    except OSError as error:
        raise FileError(f"{path}: cannot be read ({error.strerror})") from None
    if not data:
        raise FileError(f"{path}: the file is empty (0 bytes)")
    return data


def compressed_size(path: Path) -> int | None:
    """Bytes of a `.mgt` file; None for any other."""
    try:
        with open(path, "rb") as file:
            begins = file.read(len(MAGIC))
        return path.stat().st_size if begins == MAGIC else None
    except OSError:
        return None


def _ends(path: Path) -> bool:
    """Whether a character device is one that ends: the empty one, or a terminal."""
    with open(path, "rb", buffering=0) as file:
        return file.isatty() or file.read(1) == b""


def read_text(path: Path) -> str:
    """A text file, UTF-8; raises `FileError` where it is neither that nor readable."""
    try:
        return read_bytes(path).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise FileError(f"{path}: not UTF-8 text (byte {error.start})") from None


def _first_line(error: Exception) -> str:
    return (str(error).strip() or type(error).__name__).splitlines()[0]


def _as_picture(decoded: Decoded, origin: str, full_scale: float | None) -> Picture:
    samples, bits = decoded.samples, decoded.bits
    if full_scale is not None:
        samples, bits = _rescaled(samples, full_scale)
    elif np.issubdtype(samples.dtype, np.floating) and (largest := beyond_range(samples)):
        raise FileError(
            f"float samples reach {largest:g}, and their full scale is taken as 1.0: name theirs, "
            "as in --full-scale 255"
        )
    whole = samples if bits is None else samples.astype(np.uint8 if bits <= 8 else np.uint16)
    picture = as_picture(whole, origin, any_range=full_scale is not None)
    if decoded.stack:
        picture = replace(picture, colour="planes")
    notes = (*decoded.notes, *picture.notes)
    return replace(picture, bits=bits or picture.bits, notes=notes, alpha=decoded.alpha)


def _rescaled(samples: Samples, full_scale: float) -> tuple[Samples, int | None]:
    if not _LEAST_SCALE <= full_scale <= 1 / _LEAST_SCALE:
        raise FileError(
            f"a full scale of {full_scale:g} is not possible; it lies between {_LEAST_SCALE:g} "
            f"and {1 / _LEAST_SCALE:g}"
        )
    if np.issubdtype(samples.dtype, np.floating):
        wide = samples.astype(np.float64) / full_scale
        if largest := beyond_range(wide * (LARGEST_FLOAT / _FURTHEST)):
            raise FileError(
                f"samples reach {largest * _FURTHEST / LARGEST_FLOAT:g} times a full scale of "
                f"{full_scale:g}: that is not theirs"
            )
        return wide.astype(samples.dtype if samples.dtype.itemsize > 2 else np.float32), None
    bits = round(math.log2(full_scale + 1))
    if full_scale != 2**bits - 1 or not 1 <= bits <= 16:
        raise FileError(
            f"a full scale of {full_scale:g} is not 2^bits - 1 for 1 to 16 bits, "
            "as whole-number samples need: 255, 1023, 4095, 16383, 65535"
        )
    if int(samples.max()) > full_scale or int(samples.min()) < 0:
        raise FileError(
            f"samples from {samples.min()} to {samples.max()} are outside 0 to {full_scale:g}"
        )
    return samples, bits


def _oriented(decoded: Decoded) -> Decoded:
    """Turn and mirror the samples upright (EXIF 2.3, tag 274)."""
    if decoded.orientation not in range(2, 9):
        return decoded

    def upright(samples: Samples) -> Samples:
        turns = {3: 2, 4: 2, 5: 3, 6: 3, 7: 1, 8: 1}.get(decoded.orientation, 0)
        turned = np.rot90(samples, turns)
        mirrored = decoded.orientation in (2, 4, 5, 7)
        return np.ascontiguousarray(turned[:, ::-1] if mirrored else turned)

    return replace(
        decoded,
        samples=upright(decoded.samples),
        alpha=None if decoded.alpha is None else upright(decoded.alpha),
        notes=(*decoded.notes, f"turned upright (orientation {decoded.orientation})"),
    )


def _format(data: bytes) -> tuple[Callable[[bytes], int], Callable[[bytes], Decoded]]:
    """What counts the samples that a file declares, and what decodes it."""
    for marks, size, decoder in _FORMATS:
        if any(data.startswith(mark) for mark in marks):
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
    if layout.depth == 16:
        # Profiles and the like may be damaged; the decoder would say so on standard error.
        samples = imagecodecs.png_decode(png.essential(data))
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
    return _significant(decoded, layout.significant)


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
    turn, notes = _orientation(image), []
    if getattr(image, "n_frames", 1) > 1:
        notes.append(f"first of {image.n_frames} frames taken")
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
    return Decoded(np.asarray(image), 8, tuple(notes), None, turn)


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
        return int(math.prod(tiff.pages[0].shape))


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
    """Keep what a decoder library writes to the process's standard error to itself."""
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
        page, count = tiff.pages[0], len(tiff.pages)
        ends = [o + c for o, c in zip(page.dataoffsets, page.databytecounts, strict=True)]
        if max(ends) > len(data):
            raise FileError("the TIFF is truncated")
        samples = page.asarray()
        axes, bits, photometric = page.axes, page.bitspersample, page.photometric.name
        extra = [sample.name for sample in page.extrasamples]
        colormap = page.colormap
        tag = page.tags.get(274)
        stack = _stack(tiff)
    notes = () if count == 1 else (f"first of {count} pages taken",)
    if stack is not None:
        samples, notes = stack, (f"{count} pages read as a stack of planes",)
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
    if photometric not in ("MINISBLACK", "MINISWHITE", "RGB", "YCBCR"):
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
    return Decoded(samples, bits if whole else None, notes, None, turn, stack is not None)


def _stack(tiff: Any) -> Samples | None:
    """All pages, shape (h, w, pages), where they are gray and alike; None otherwise."""
    pages = [page.aspage() for page in tiff.pages] if len(tiff.pages) > 1 else []
    kinds = {(p.axes, p.shape, p.dtype, p.photometric.name, p.bitspersample) for p in pages}
    if len(kinds) != 1 or pages[0].axes != "YX" or not pages[0].photometric.name.startswith("MIN"):
        return None
    check_samples(pages[0].imagewidth * pages[0].imagelength * len(pages), MAX_SAMPLES)
    return np.stack([page.asarray() for page in pages], axis=-1)


def _decode_npy(data: bytes) -> Decoded:
    array = np.load(io.BytesIO(data), allow_pickle=False)
    return Decoded(array.astype(array.dtype.newbyteorder("=")))


#: First bytes of each format, what counts the samples that its header declares, its decoder.
_FORMATS: list[tuple[tuple[bytes, ...], Callable[[bytes], int], Callable[[bytes], Decoded]]] = [
    ((png.SIGNATURE,), png.declared_samples, _decode_png),
    ((b"\xff\xd8\xff", b"BM"), _samples_of_image, _decode_plain),
    ((b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"), _samples_of_tiff, _decode_tiff),
    ((b"P2", b"P3", b"P5", b"P6"), netpbm.declared_samples, _decode_netpbm),
    ((b"RIFF",), _samples_of_image, _decode_webp),
    ((b"\0\0\0\x0cjP  ", b"\xff\x4f\xff\x51"), _samples_of_jpeg2000, _decode_jpeg2000),
    ((b"\x93NUMPY",), _samples_of_npy, _decode_npy),
]
