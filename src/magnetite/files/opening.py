"""Open files for reading: regular files only, of a bounded size."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO, NamedTuple

from magnetite.core.errors import FileError

#: Bytes of a text file at most: plans, tables, gates, models, certificates, commands.
MOST_TEXT = 2**28
_FLAGS = os.O_RDONLY | sum(getattr(os, n, 0) for n in ("O_NONBLOCK", "O_BINARY", "O_CLOEXEC"))
_KINDS = (
    (stat.S_ISDIR, "is a folder; name a file in it"),
    (stat.S_ISFIFO, "is a pipe, not a file"),
    (stat.S_ISSOCK, "is a socket, not a file"),
)


class Stamp(NamedTuple):
    """Identity and state of a file: equal as long as it was not changed or replaced."""

    device: int
    inode: int
    size: int
    changed: int

    @classmethod
    def of(cls, file: BinaryIO) -> Stamp:
        """Of an open file."""
        found = os.fstat(file.fileno())
        return cls(found.st_dev, found.st_ino, found.st_size, found.st_mtime_ns)


@contextmanager
def opened(path: Path, stamp: Stamp | None = None) -> Iterator[BinaryIO]:
    """A regular file, open for reading; it does not wait for a writer.

    Parameters
    ----------
    path : Path
    stamp : Stamp, optional
        Of the file as it was opened first.

    Raises
    ------
    FileError
        If the file is missing, cannot be opened or read, is not a regular file, or has changed
        since it was stamped.
    """
    with open(_descriptor(path), "rb") as file:
        if stamp not in (None, Stamp.of(file)):
            raise FileError(f"{path}: has changed while it was read in bands")
        try:
            yield file
        except OSError as error:
            raise _unreadable(path, error) from None


def _descriptor(path: Path) -> int:
    """Of a regular file; no other is opened."""
    try:
        descriptor = os.open(path, _FLAGS)
    except OSError as error:
        raise _unreadable(path, error) from None
    except ValueError as error:  # a null character
        raise FileError(f"{path}: cannot be read ({error})") from None
    try:
        check_regular(path, os.fstat(descriptor).st_mode)
    except FileError:
        os.close(descriptor)
        raise
    return descriptor


def _unreadable(path: Path, error: OSError) -> FileError:
    if isinstance(error, FileNotFoundError):
        return FileError(f"{path}: no such file")
    return FileError(f"{path}: cannot be read ({error.strerror or error})")


def check_regular(path: Path, mode: int) -> None:
    """Raise `FileError` for anything but a regular file."""
    if stat.S_ISREG(mode):
        return
    words = next((words for is_kind, words in _KINDS if is_kind(mode)), "is a device, not a file")
    raise FileError(f"{path}: {words}")


def read_bytes(path: Path, most: int = MOST_TEXT) -> bytes:
    """The whole file.

    Parameters
    ----------
    path : Path
    most : int
        Bytes at most.

    Raises
    ------
    FileError
        If the file is missing, unreadable, empty, too large, or not a regular file.
    """
    with opened(path) as file:
        size = Stamp.of(file).size
        data = file.read(size) if size <= most else b""
    if size > most:
        raise FileError(f"{path}: has more than {most} bytes, too many for a file of its kind")
    if not data:
        raise FileError(f"{path}: the file is empty (0 bytes)")
    return data


def read_text(path: Path, most: int = MOST_TEXT) -> str:
    """A text file, UTF-8; raises `FileError` where it is neither that nor readable."""
    try:
        return read_bytes(path, most).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise FileError(f"{path}: not UTF-8 text (byte {error.start})") from None
