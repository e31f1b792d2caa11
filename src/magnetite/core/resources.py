"""Arrays that a step names by file. The core opens no file itself: who can, says how."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from numpy.typing import NDArray

Reader = Callable[[str], "NDArray[Any]"]


def _no_reader(name: str) -> NDArray[Any]:
    raise ValueError(f"{name} cannot be read: no reader of files is at hand")


_reader: Reader = _no_reader


def read_with(reader: Reader) -> None:
    """Say how files are read from now on; the package's front door does."""
    global _reader  # noqa: PLW0603 (one reader for the whole process, set once on import)
    _reader = reader


def read_array(name: str) -> NDArray[Any]:
    """Two-dimensional array of a file, as the reader gives it; raises what the reader raises."""
    return _reader(name)
