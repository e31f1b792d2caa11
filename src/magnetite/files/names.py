"""File names as they can be shown: whatever bytes they hold."""

from __future__ import annotations

import os
import re
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

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


def apart(paths: Sequence[str]) -> list[str]:
    """Names of files by which they differ: without ending and folders where these are not needed.

    `a/x/p.png` and `b/x/p.png` are `a/x/p` and `b/x/p`, `p.png` and `p.tif` keep their endings.
    """
    parts = [Path(os.path.abspath(path)).parts for path in paths]
    endless = [(*own[:-1], Path(own[-1]).stem) for own in parts]
    for forms in (endless, parts):
        names = ["/".join(own[-1:]) for own in forms]
        for depth in range(2, max(map(len, forms), default=0) + 1):
            clashing = {name for name, count in Counter(names).items() if count > 1}
            names = [
                "/".join(own[-depth:]) if name in clashing else name
                for own, name in zip(forms, names, strict=True)
            ]
        if len(set(names)) == len(names):
            break
    return [shown(name) for name in names]


def named(text: str, ending: str) -> str:
    """A file name for a text: blanks become `_`, characters that file systems refuse `-`."""
    plain = re.sub(r"[^\w.=%+,-]", "-", "_".join(text.split()), flags=re.ASCII)
    return f"{plain[:120]}{ending}"


def _escaped(character: str) -> str:
    code = ord(character)
    return f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}"
