"""Write pictures: without loss, or with a note on the loss."""

from __future__ import annotations

import io
import os
from collections.abc import Callable, Iterable
from contextlib import AbstractContextManager, ExitStack, nullcontext
from itertools import chain, islice
from pathlib import Path

import numpy as np

from magnetite.core.errors import FileError
from magnetite.core.metrics.error import psnr
from magnetite.core.picture import Frame, Picture
from magnetite.core.picture.rows import joined
from magnetite.files.atomic import check_writable, replacing, write_bytes
from magnetite.files.formats import Format, by_ending, formats


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
    check_output(picture.frame, Path(path))
    data, messages = encoded(picture, Path(path))
    write_bytes(Path(path), data)
    return messages + _certificate_note(Path(path))


def encoded(picture: Picture, path: Path) -> tuple[bytes, tuple[str, ...]]:
    """Bytes and notes of a file of this name; `FileError` if its format cannot hold the picture."""
    kind = _able(picture.frame, path)
    data = kind.encode(picture)
    if not kind.lossless:
        return data, (_loss(picture, data, path),)
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
    check_output(frame, path)
    coming = iter(bands)
    first = list(islice(coming, 2))
    kind = _format(path)
    stale = _certificate_note(path) if companion is None else ()
    context = companion or nullcontext
    if len(first) == 1 or kind.stream is None:
        data, notes = encoded(joined(chain(first, coming)), path)
        with context(notes):
            write_bytes(path, data)
        return notes + stale
    notes = _depth_note(frame, path)
    with ExitStack() as stack, replacing(path) as temporary:
        kind.stream(temporary, frame, chain(first, coming))
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
    kind = _format(path)
    if kind.keeps_depth or frame.bits in (None, 8, 16):
        return ()
    scale = f"{frame.full_scale:g}"
    return (
        f"{path}: {kind.name} does not hold the bit depth; read it with a full scale of {scale}",
    )


def lossless_ending(picture: Picture) -> str:
    """Ending of a file that keeps every sample: PNG where it holds the picture, TIFF otherwise."""
    return ".tif" if picture.bits is None or picture.colour == "planes" else ".png"


def check_output(frame: Frame, path: Path, *, banded: bool = False) -> None:
    """Raise `FileError` if a picture like this one could not be written there.

    `banded` says that all of it is too large for the memory allowed.
    """
    kind = _format(path)
    check_writable(path)
    if banded and kind.stream is None:
        raise FileError(
            f"{path}: a picture that is worked on in bands is written as .tif or .npy; name one, "
            "or allow more memory (--memory)"
        )
    _able(frame, path)


def _able(frame: Frame, path: Path) -> Format:
    """The format that a file's ending names; `FileError` if it cannot hold such a picture."""
    kind = _format(path)
    if not kind.holds(frame):
        able = [other.endings[0] for other in formats() if other.holds(frame)]
        raise FileError(
            f"{path}: {kind.name} cannot hold a picture of {frame.describe()}; "
            f"write {' or '.join(able[:2])}"
        )
    return kind


def check_format(path: Path) -> None:
    """Raise `FileError` if the file's ending names no format, or its folder is not there."""
    _format(path)
    check_writable(path)


def _format(path: Path) -> Format:
    kind = by_ending().get(path.suffix.lower())
    if kind is None:
        ending = f"the ending {path.suffix!r} names" if path.suffix else "no ending: that names"
        raise FileError(f"{path}: {ending} no known format; known: {', '.join(by_ending())}")
    return kind


def _loss(picture: Picture, data: bytes, path: Path) -> str:
    from PIL import Image

    again = np.asarray(Image.open(io.BytesIO(data)))
    loss = psnr(picture.samples, again, 255)
    return (
        f"{path}: {_format(path).name} is lossy; the file differs from the picture described here "
        f"(PSNR {loss:.2f} dB between them); write .png to keep it exactly"
    )
