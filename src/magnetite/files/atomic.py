"""Write files whole or not at all."""

from __future__ import annotations

import contextlib
import os
import tempfile
from pathlib import Path

from magnetite.core.errors import FileError


def write_bytes(path: Path, data: bytes) -> None:
    """Write a file through a temporary one beside it, so that a reader never sees a part.

    Raises
    ------
    FileError
        If the folder is missing or the file cannot be written.
    """
    check_writable(path)
    try:
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    except OSError as error:
        raise FileError(f"{path}: cannot be written ({error.strerror})") from None
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
        umask = os.umask(0)
        os.umask(umask)
        os.chmod(temporary, 0o666 & ~umask)
        os.replace(temporary, path)
    except OSError as error:
        raise FileError(f"{path}: cannot be written ({error.strerror})") from None
    finally:
        with contextlib.suppress(OSError):
            os.unlink(temporary)


def check_writable(path: Path) -> None:
    """Raise `FileError` early, before work is done, if `path` cannot become a file."""
    if path.is_dir():
        raise FileError(f"{path}: is a folder; name a file in it")
    if not path.parent.is_dir():
        raise FileError(f"{path}: the folder {path.parent} does not exist; create it first")
    if not os.access(path.parent, os.W_OK):
        raise FileError(f"{path}: the folder {path.parent} is not writable")


def make_folder(path: Path) -> Path:
    """Create a folder, with its parents, where it does not exist yet."""
    try:
        path.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(f"{path}: the folder cannot be created ({error.strerror})") from None
    return path
