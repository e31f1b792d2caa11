"""JSON files that accompany pictures."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from magnetite.core.errors import FileError
from magnetite.core.picture import Picture
from magnetite.files.atomic import check_writable, write_bytes
from magnetite.files.opening import read_bytes
from magnetite.files.row_access import write_rows
from magnetite.files.writing import encoded

if TYPE_CHECKING:
    from magnetite.core.operations.banded import DegradedRows


def certificate_path(picture: Path) -> Path:
    """`tile.png` has its certificate in `tile.png.cert.json`."""
    return picture.with_name(picture.name + ".cert.json")


def read_json(path: Path) -> dict[str, Any]:
    """Read a JSON object; raises `FileError` if the file is missing or holds anything else."""
    data = read_bytes(path)
    try:
        content = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise FileError(f"{path}: is not JSON ({error})") from None
    if not isinstance(content, dict):
        raise FileError(f"{path}: does not hold a JSON object")
    return content


def write_certified(picture: Picture, path: Path, record: dict[str, Any]) -> tuple[str, ...]:
    """Write a picture and its certificate, both or neither; return the notes to print.

    Raises
    ------
    FileError
        If one of them cannot be written.
    """
    data, messages = encoded(picture, path)
    with _sidecar_of(path, lambda: record | {"file_notes": list(messages)}):
        write_bytes(path, data)
    return messages


def write_certified_rows(degraded: DegradedRows, path: Path) -> None:
    """Write a picture that is degraded in bands, and its certificate, both or neither.

    Raises
    ------
    FileError
        If one of them cannot be written.
    """
    check_writable(certificate_path(path))

    def record() -> dict[str, Any]:
        return degraded.certificate().as_dict() | {"file_notes": []}

    with contextlib.ExitStack() as stack:

        def bands() -> Iterator[Picture]:
            yield from degraded
            stack.enter_context(_sidecar_of(path, record))

        write_rows(path, degraded.frame, bands())


@contextlib.contextmanager
def _sidecar_of(path: Path, record: Callable[[], dict[str, Any]]) -> Iterator[None]:
    """Write the certificate of a picture; an earlier one is restored if the picture fails."""
    sidecar = certificate_path(path)
    check_writable(sidecar)
    before = read_bytes(sidecar) if sidecar.is_file() else None
    write_json(sidecar, record())
    try:
        yield
    except BaseException:
        if before is None:
            sidecar.unlink(missing_ok=True)
        else:
            write_bytes(sidecar, before)
        raise


def write_json(path: Path, content: dict[str, Any]) -> None:
    """Write plain values as JSON, whole or not at all."""
    text = json.dumps(content, indent=2, ensure_ascii=False, allow_nan=False)
    # Bytes of file names that are not UTF-8 become escapes, which JSON understands.
    write_bytes(path, f"{text}\n".encode(errors="backslashreplace"))
