"""What a step names by file. The core opens no file itself: who can, says how."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from numpy.typing import NDArray

ArrayReader = Callable[[str], "NDArray[Any]"]
RecordReader = Callable[[str], dict[str, Any]]


def _no_reader(name: str) -> Any:
    raise ValueError(f"{name} cannot be read: no file reader is installed")


_read_array: ArrayReader = _no_reader
_read_record: RecordReader = _no_reader


def read_with(arrays: ArrayReader, records: RecordReader) -> None:
    """Say how files are read from now on; the package's front door does."""
    global _read_array, _read_record
    _read_array, _read_record = arrays, records


def read_array(name: str) -> NDArray[Any]:
    """Two-dimensional array of a file, as the reader gives it; raises what the reader raises."""
    return _read_array(name)


def read_record(name: str) -> dict[str, Any]:
    """JSON object of a file, as the reader gives it; raises what the reader raises."""
    return _read_record(name)
