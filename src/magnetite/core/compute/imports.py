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

    Modules of SciPy import one another in circles. Two threads that enter such a circle at once
    break Python's deadlock of their locks by a module that is half made: one import in twenty
    then fails on a loaded machine (`KeyError: 'scipy'`). Imports inside functions are worth it
    for the time that a start takes, so they are kept and serialised.
    """
    if builtins.__import__ is _plain:
        builtins.__import__ = _one_at_a_time
