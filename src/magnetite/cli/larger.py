"""Pictures that would take more memory than is allowed: commands work on them in bands."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from magnetite.cli.options import limits
from magnetite.core.errors import InputError
from magnetite.core.limits import BYTES_PER_SAMPLE
from magnetite.files import marks

if TYPE_CHECKING:
    from magnetite.core.picture import Frame
    from magnetite.files.rows import NpyRows, TiffRows

Result = TypeVar("Result")

_UNITS = {"": 1, "KiB": 2**10, "MiB": 2**20, "GiB": 2**30, "kB": 10**3, "MB": 10**6, "GB": 10**9}


def bytes_of(text: str) -> int:
    """Bytes of a size such as `1.5GiB`; `InputError` for anything else."""
    match = re.fullmatch(r"(\d+(?:\.\d+)?)\s*([A-Za-z]*)", text)
    if match is None or match[2] not in _UNITS:
        raise InputError(f"{text!r} is not a size: write a number with MiB or GiB, as in 1.5GiB")
    return int(float(match[1]) * _UNITS[match[2]])


def larger_than_memory(
    *paths: Path, full_scale: float | None = None
) -> list[NpyRows | TiffRows] | None:
    """Files that would take more memory than is allowed, to be read in bands; None otherwise.

    None also where one of them cannot be read in bands, or is converted on reading.
    """
    if limits.conversion is not None or not all(map(_may_be_banded, paths)):
        return None
    from magnetite.files.rows import open_rows

    rows = [open_rows(path, full_scale) for path in paths]
    if any(one is None or _needs(one.frame) <= limits.memory for one in rows):
        return None
    return [one for one in rows if one is not None]


def _may_be_banded(path: Path) -> bool:
    """Whether a file begins as a TIFF or NPY does."""
    if not path.is_file():
        return False
    with open(path, "rb") as file:
        begins = file.read(6)
    return begins.startswith(marks.TIFF + marks.NPY)


def in_bands_or_whole(frame: Frame, work: Callable[[], Result]) -> Result | None:
    """What `work` does in bands; None where it needs a picture whole that may be read whole."""
    try:
        return work()
    except InputError:
        if _samples(frame) > limits.max_samples:
            raise
        return None


def _samples(frame: Frame) -> int:
    return frame.width * frame.height * frame.channels


def _needs(frame: Frame) -> float:
    return _samples(frame) * BYTES_PER_SAMPLE
