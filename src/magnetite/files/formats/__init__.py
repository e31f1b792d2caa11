"""File formats of pictures, a module each: to add one, write a module with its `FORMATS`."""

from __future__ import annotations

import functools
import importlib
import pkgutil

from magnetite.core.errors import FileError
from magnetite.files.formats._format import Decoded, Format

__all__ = ["Decoded", "Format", "by_ending", "format_of", "formats"]


@functools.cache
def formats() -> tuple[Format, ...]:
    """All formats, those first that messages suggest; `_modules` share code."""
    modules = [m.name for m in pkgutil.iter_modules(__path__) if not m.name.startswith("_")]
    found = [f for name in modules for f in importlib.import_module(f"{__name__}.{name}").FORMATS]
    return tuple(sorted(found, key=lambda f: (f.rank, f.name)))


@functools.cache
def by_ending() -> dict[str, Format]:
    """Formats by the endings of their files' names."""
    return {ending: kind for kind in formats() for ending in kind.endings}


def format_of(data: bytes) -> Format:
    """The format of a file's bytes; `FileError` for an unknown one."""
    for kind in formats():
        if data.startswith(kind.marks):
            return kind
    known = ", ".join(kind.name for kind in formats())
    raise FileError(f"not a picture in a known format; known are {known} and .mgt")
