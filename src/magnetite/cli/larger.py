"""Pictures that would take more memory than is allowed: commands work on them in bands."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from magnetite.cli.options import limits
from magnetite.core.chain.notation import shortened
from magnetite.core.errors import InputError
from magnetite.core.limits import BYTES_PER_SAMPLE
from magnetite.files import marks
from magnetite.files.opening import opened

if TYPE_CHECKING:
    from magnetite.core.picture import Frame, Picture
    from magnetite.core.picture.rows import Rows

Result = TypeVar("Result")

_UNITS = {"": 1, "KiB": 2**10, "MiB": 2**20, "GiB": 2**30, "kB": 10**3, "MB": 10**6, "GB": 10**9}


#: Bytes of memory that can be allowed.
_MOST_MEMORY = 2**60


def bytes_of(text: str) -> int:
    """Bytes of a size such as `1.5GiB`; `InputError` for anything else."""
    match = re.fullmatch(r"(\d+(?:\.\d+)?)\s*([A-Za-z]*)", text)
    if match is None or match[2] not in _UNITS:
        raise InputError(f"{text!r} is not a size: write a number with MiB or GiB, as in 1.5GiB")
    size = float(match[1]) * _UNITS[match[2]]
    if size > _MOST_MEMORY:
        raise InputError(f"{shortened(text)!r} is more memory than any machine has")
    return int(size)


def larger_than_memory(*paths: Path, full_scale: float | None = None) -> list[Rows] | None:
    """Files that would take more memory than is allowed, to be read in bands; None otherwise.

    None also where one of them cannot be read in bands, or is converted on reading.
    """
    if limits.conversion is not None or not all(map(_may_be_banded, paths)):
        return None
    from magnetite.files.row_access import open_rows

    opened = [open_rows(path, full_scale) for path in paths]
    rows = [one for one in opened if one is not None]
    if len(rows) < len(paths) or any(fits(one.frame) for one in rows):
        return None
    return [*rows]


def part_of(rows: Rows, region: str | None) -> Rows:
    """The region of a picture, if one is given."""
    from magnetite.core.picture.region import RegionRows

    return rows if region is None else RegionRows(rows, region)


def _may_be_banded(path: Path) -> bool:
    """Whether a file begins as a TIFF, NPY or `.mgt` does."""
    from magnetite.core.codecs.layers.container import MAGIC

    if not path.is_file():
        return False
    with opened(path) as file:
        begins = file.read(6)
    return begins.startswith((*marks.TIFF, *marks.NPY, MAGIC))


def in_bands_or_whole(frame: Frame, work: Callable[[], Result]) -> Result | None:
    """The result of `work` in bands; None where it needs a whole picture that may be read."""
    try:
        return work()
    except InputError:
        if not may_be_whole(frame):
            raise
        return None


def figures_in_bands(rows: Rows, wanted: str, measure: Callable[[bool], Result]) -> Result | None:
    """The result of `measure` in bands; None where the picture is measured whole.

    Its argument says whether a figure that needs the whole picture is an error: of all figures,
    those of a picture that may not be worked on whole are left out.
    """
    from magnetite.core.operations.measuring import ALL

    if fits(rows.frame):
        return None
    strict = wanted != ALL or may_be_whole(rows.frame)
    return in_bands_or_whole(rows.frame, lambda: measure(strict))


def check_whole(rows: Rows, words: str) -> None:
    """Raise `InputError` with these words where a picture may not be worked on whole."""
    if not may_be_whole(rows.frame):
        raise InputError(f"{rows.origin}: {words}, or allow more samples (--max-samples)")


def whole(rows: Rows) -> Picture:
    """All of a picture that fits."""
    return rows.part(slice(0, rows.frame.height))


def fits(frame: Frame) -> bool:
    """Whether a picture may be worked on whole with the memory allowed."""
    return _samples(frame) * BYTES_PER_SAMPLE <= limits.memory


def may_be_whole(frame: Frame) -> bool:
    """Whether a picture may be worked on whole, whatever memory that takes."""
    return _samples(frame) <= limits.max_samples


def _samples(frame: Frame) -> int:
    return frame.width * frame.height * frame.channels
