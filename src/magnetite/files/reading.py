"""Read pictures: the format of a file follows from its bytes, never from its name."""

from __future__ import annotations

import io
import math
import os
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.codecs.layers.container import LONGEST_HEADER, MAGIC, read_header
from magnetite.core.errors import FileError, MagnetiteError, PictureError
from magnetite.core.limits import MAX_SAMPLES, check_samples
from magnetite.core.picture import Picture, as_picture, beyond_range
from magnetite.core.picture.picture import LARGEST_FLOAT
from magnetite.files.formats import Decoded, format_of, npy
from magnetite.files.opening import opened, read_bytes

#: Smallest full scale of float samples; its inverse is the largest.
_LEAST_SCALE = 1e-9
#: Largest accepted sample, as a multiple of the full scale that the user names.
_FURTHEST = 1e6
#: Bytes of a picture's file at most: for each sample, also as plain text, and besides them.
_BYTES_PER_SAMPLE, _METADATA = 16, 2**26
#: Largest weight of a kernel: sums of squares stay finite.
_LARGEST_WEIGHT = 1e30


def read(
    path: str | os.PathLike[str], *, full_scale: float | None = None, max_samples: int = MAX_SAMPLES
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

    Examples
    --------
    >>> import numpy as np
    >>> import magnetite
    >>> ramp = np.tile(np.arange(200, dtype=np.uint8), (64, 1))
    >>> magnetite.write(magnetite.convert(ramp, "gray"), "ramp.png")
    ()
    >>> magnetite.read("ramp.png").describe()
    '200x64 gray, 8 bits'
    """
    path = Path(path)
    data = read_bytes(path, _BYTES_PER_SAMPLE * max_samples + _METADATA)
    try:
        if data.startswith(MAGIC):
            from magnetite.core.operations.expand import expand

            return replace(expand(data, max_samples=max_samples), origin=str(path))
        stored = format_of(data)
        check_samples(stored.declared(data), max_samples)
        decoded = _oriented(stored.decode(data))
        return picture_of(decoded, str(path), full_scale)
    except MagnetiteError as error:
        message = str(error)
        kind = type(error)
        raise kind(message if str(path) in message else f"{path}: {message}") from None
    except MemoryError:
        raise FileError(f"{path}: the picture does not fit into memory") from None
    except Exception as error:  # decoder libraries raise whatever they like on damaged files
        raise FileError(f"{path}: the file is damaged ({first_line(error)})") from None


def read_kernel(path: str | os.PathLike[str]) -> Samples:
    """Numbers of a gray picture, an NPY or a CSV file, float64, shape (h, w).

    Raises
    ------
    FileError
        If the file cannot be read.
    PictureError
        If it holds anything but one plane of numbers.
    """
    data = read_bytes(Path(path))
    if Path(path).suffix.lower() == ".csv":
        array = _numbers_of(data, Path(path))
    elif data.startswith(npy.MARKS):
        try:
            array = np.load(io.BytesIO(data), allow_pickle=False)
        except Exception as error:  # also those of the tokenizer that reads the header
            raise FileError(f"{path}: the file is damaged ({first_line(error)})") from None
    else:
        array = read(path).samples
    if array.ndim != 2 or array.size == 0 or array.dtype.kind not in "uif":
        raise PictureError(f"{path}: a kernel is one gray plane of numbers, not {array.shape}")
    weights = np.asarray(array, dtype=np.float64)
    if not np.isfinite(weights).all() or np.abs(weights).max() > _LARGEST_WEIGHT:
        raise PictureError(f"{path}: a kernel's weights are finite and at most {_LARGEST_WEIGHT:g}")
    return weights


def _numbers_of(data: bytes, path: Path) -> Samples:
    """Rows of numbers of a CSV text, all of one length."""
    try:
        rows = [list(map(float, line.split(","))) for line in data.decode().split()]
        return np.array(rows, np.float64)
    except ValueError as error:
        raise FileError(
            f"{path}: is not rows of numbers, separated by commas ({first_line(error)})"
        ) from None


class CodedFile(NamedTuple):
    """Bytes and rate of a compressed file: those of the whole picture that it holds."""

    size: int
    bpp: float


def coded_file(path: Path) -> CodedFile | None:
    """Bytes and rate of a `.mgt` file; None for any other."""
    try:
        with opened(path) as file:
            begins = file.read(LONGEST_HEADER)
            size = file.seek(0, os.SEEK_END)
    except FileError:
        return None
    if not begins.startswith(MAGIC):
        return None
    return CodedFile(size, read_header(begins)[0].frame.bpp(size))


def first_line(error: Exception) -> str:
    """First line of an error's message, or its type."""
    return (str(error).strip() or type(error).__name__).splitlines()[0]


def picture_of(decoded: Decoded, origin: str, full_scale: float | None) -> Picture:
    """Decoded samples as a picture; `FileError` where their full scale is not clear."""
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
    return replace(
        picture, bits=bits or picture.bits, notes=notes, alpha=decoded.alpha, light=decoded.light
    )


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
