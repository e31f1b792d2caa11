"""JSON files that accompany pictures."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from magnetite.core.errors import FileError
from magnetite.files.atomic import check_writable, write_bytes
from magnetite.files.opening import read_bytes
from magnetite.files.writing import certificate_path, write_rows

if TYPE_CHECKING:
    from magnetite.core.operations.degrade import Degraded, DegradedRows


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


def write_certified(degraded: Degraded | DegradedRows, path: Path) -> tuple[str, ...]:
    """Write a degraded picture, or one that is still to be degraded, and its certificate.

    Both are written, or neither.

    Returns
    -------
    tuple of str
        Notes on the file for the user.

    Raises
    ------
    FileError
        If one of them cannot be written.
    """
    from magnetite.core.operations.degrade import Degraded

    check_writable(certificate_path(path))

    def companion(notes: tuple[str, ...]) -> contextlib.AbstractContextManager[None]:
        made = degraded.certificate if isinstance(degraded, Degraded) else degraded.certificate()
        return _sidecar_of(path, made.as_dict() | {"file_notes": list(notes)})

    if isinstance(degraded, Degraded):
        return write_rows(path, degraded.picture.frame, [degraded.picture], companion)
    return write_rows(path, degraded.frame, degraded, companion)


@contextlib.contextmanager
def _sidecar_of(path: Path, record: dict[str, Any]) -> Iterator[None]:
    """Write the certificate of a picture; an earlier one is restored if the picture fails."""
    sidecar = certificate_path(path)
    check_writable(sidecar)
    before = read_bytes(sidecar) if sidecar.is_file() else None
    write_json(sidecar, record)
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
