"""Imports by one thread at a time."""

from __future__ import annotations

import builtins
from threading import RLock
from typing import Any

_lock = RLock()
_plain = builtins.__import__


def _one_at_a_time(*arguments: Any, **settings: Any) -> Any:
    with _lock:
        return _plain(*arguments, **settings)


def serialise() -> None:
    """Let only one thread of this process import at a time, from now on.

    Modules of SciPy import one another in cycles. Where two threads enter such a cycle at once,
    Python resolves the deadlock of their import locks with a partially initialised module, and
    an import may fail on a loaded machine (`KeyError: 'scipy'`). Deferred imports keep start-up
    fast, so they are serialised instead of moved.
    """
    if builtins.__import__ is _plain:
        builtins.__import__ = _one_at_a_time
