"""Standard output and error of any encoding, closed or full."""

from __future__ import annotations

import codecs
import os
import sys
import warnings
from typing import Any, TextIO

#: Replacements for characters that the output's encoding lacks.
_PLAIN = {
    "↑": "^", "↓": "v", "–": "-", "−": "-", "…": "...", "∞": "inf", "≤": "<=", "≥": ">=",
    "±": "+-", "²": "2", "·": ".", "×": "x", "σ": "sigma", "Σ": "sum", "√": "sqrt", "π": "pi",
}  # fmt: skip


def _plainly(error: UnicodeError) -> tuple[str, int]:
    assert isinstance(error, UnicodeEncodeError)
    part = error.object[error.start : error.end]
    known = "".join(_PLAIN.get(c, c.encode("ascii", "backslashreplace").decode()) for c in part)
    return known, error.end


def prepare_streams() -> None:
    """Let every text be written, whatever the encoding; closed streams take everything."""
    codecs.register_error("magnetite-plain", _plainly)
    for name in ("stdout", "stderr"):
        stream: TextIO | None = getattr(sys, name)
        if stream is None:
            setattr(sys, name, _nowhere())
        elif hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="magnetite-plain")
    warnings.showwarning = _as_note  # type: ignore[assignment]


def _as_note(message: Warning | str, *_: Any) -> None:
    print(f"note: {' '.join(str(message).split())}: check the figures", file=sys.stderr)


def flush_or_give_up() -> None:
    """Flush the buffers; discard them where that fails."""
    try:
        sys.stdout.flush()
    except (OSError, ValueError):
        give_up_output()


def give_up_output() -> None:
    """Nothing more can be written: discard the buffers."""
    try:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    except (OSError, ValueError):
        sys.stdout = _nowhere()


def _nowhere() -> TextIO:
    return open(os.devnull, "w", encoding="utf-8")
