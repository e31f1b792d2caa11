"""Write files whole or not at all."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Iterator
from pathlib import Path

from magnetite.core.errors import FileError

#: Bytes that the name of a file may have.
LONGEST_NAME = 255
#: Names of temporary files begin so.
_PREFIX = ".magnetite-"


def write_bytes(path: Path, data: bytes) -> None:
    """Write a file through a temporary one in its folder, so that a reader never sees a part.

    Raises
    ------
    FileError
        If the folder is missing or the file cannot be written.
    """
    with replacing(path) as temporary:
        temporary.write_bytes(data)


@contextlib.contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """A temporary file in the folder of `path`, which takes its place if nothing fails.

    Raises
    ------
    FileError
        If the folder is missing or the file cannot be written.
    """
    check_writable(path)
    path = path.resolve()  # the target of a link is written, the link stays
    try:
        handle, name = tempfile.mkstemp(prefix=_PREFIX, suffix=path.suffix, dir=path.parent)
    except OSError as error:
        raise FileError(f"{path}: cannot be written ({error.strerror})") from None
    os.close(handle)
    temporary = Path(name)
    try:
        yield temporary
        umask = os.umask(0)
        os.umask(umask)
        os.chmod(temporary, 0o666 & ~umask)
        os.replace(temporary, path)
    except OSError as error:
        raise FileError(f"{path}: cannot be written ({error.strerror})") from None
    finally:
        with contextlib.suppress(OSError):
            os.unlink(temporary)


def remove_temporary(*folders: Path) -> None:
    """Remove temporary files that killed processes left; no other may write to the folders."""
    for folder in folders:
        for path in folder.glob(f"{_PREFIX}*") if folder.is_dir() else ():
            with contextlib.suppress(OSError):
                path.unlink()


def check_writable(path: Path) -> None:
    """Raise `FileError` early, before work is done, if `path` cannot become a file."""
    if len(os.fsencode(path.name)) > LONGEST_NAME:
        raise FileError(f"{path}: a file name may have {LONGEST_NAME} bytes; give a shorter one")
    if path.is_dir():
        raise FileError(f"{path}: is a folder; name a file in it")
    if path.exists() and not path.is_file():
        raise FileError(f"{path}: is a device or a pipe; name a file")
    if path.is_file() and not os.access(path, os.W_OK):
        raise FileError(f"{path}: is read-only; name another file")
    if not path.parent.is_dir():
        raise FileError(f"{path}: the folder {path.parent} does not exist; create it first")
    if not os.access(path.parent, os.W_OK):
        raise FileError(f"{path}: the folder {path.parent} is not writable")


def inside(folder: Path, name: str) -> Path:
    """A path below a folder, for names that were not given at the prompt.

    Raises
    ------
    FileError
        If the name, or a link on its way, leads out of the folder.
    """
    path, home = folder / name, folder.resolve()
    try:
        target = path.resolve()
    except (OSError, RuntimeError, ValueError) as error:
        raise FileError(f"{folder}: {name!r} cannot be followed ({error})") from None
    if not target.is_relative_to(home) or target == home:
        raise FileError(
            f"{path}: leads out of the folder {folder}, and nothing outside is read or written for "
            "it; remove the link or the name"
        )
    return path


def make_folder(path: Path) -> Path:
    """Create a folder, with its parents, where there is none; raises `FileError` if it cannot."""
    try:
        path.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(f"{path}: the folder cannot be created ({error.strerror})") from None
    return path
