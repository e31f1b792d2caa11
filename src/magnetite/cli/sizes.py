"""Sizes of memory and of pictures as the command line takes them."""

from __future__ import annotations

import re

from magnetite.core.chain.notation import shortened
from magnetite.core.errors import InputError

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


def picture_size(text: str) -> tuple[int, int]:
    """Width and height in px of `--size`, as in `640x448`; `InputError` for anything else."""
    match = re.fullmatch(r"(\d{1,6})x(\d{1,6})", text)
    if match is None:
        raise InputError(f"--size {text!r}: write WIDTHxHEIGHT, as in 640x448")
    return int(match[1]), int(match[2])
