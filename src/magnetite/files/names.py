"""File names as they can be shown: whatever bytes they hold."""

from __future__ import annotations

import os
import re

#: Control characters, of ASCII and of Latin-1, and marks that turn the direction of writing.
_CONTROL = re.compile("[\x00-\x09\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069]")
#: Half of a pair: a byte that is not UTF-8.
_SURROGATE = re.compile("[\ud800-\udfff]")


def shown(name: str | os.PathLike[str]) -> str:
    """The name, or any text with names in it, with nothing that a terminal would obey.

    Bytes that are not UTF-8 become `\\xNN`, as do control characters but for the end of a line.
    """
    text = _SURROGATE.sub(lambda m: f"\\x{ord(m[0]) & 0xFF:02x}", os.fspath(name))
    return _CONTROL.sub(lambda m: _escaped(m[0]), text)


def named(text: str, ending: str) -> str:
    """A file name that says the text: blanks become `_`, what file systems refuse `-`."""
    plain = re.sub(r"[^\w.=%+,-]", "-", "_".join(text.split()), flags=re.ASCII)
    return f"{plain[:120]}{ending}"


def _escaped(character: str) -> str:
    code = ord(character)
    return f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}"
