"""Hook for the compilation of loops, which takes seconds once and is cached."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass

#: Pictures of fewer samples are not worth the time that compiled loops take to load, where
#: array code can do the same.
WORTH_COMPILING = 2**17
#: Samples in a plane of the picture that a band belongs to; 0 outside of bands.
_whole: ContextVar[int] = ContextVar("whole", default=0)
#: Samples that array code works through in the time that the compiler takes to load.
_WORTH_LOADING = 2**24
#: Takes the name of the loop.
Listener = Callable[[str], None]


@dataclass
class _State:
    listener: Listener | None = None
    alone: bool = False


_state = _State()


def worth_compiling(samples: int) -> bool:
    """Whether a plane is large enough for a compiled loop that rounds in its own way.

    A band counts as the plane that it belongs to, so that its bits are those of the whole.

    Parameters
    ----------
    samples : int
        Of the plane.
    """
    return max(samples, _whole.get()) >= WORTH_COMPILING


@contextmanager
def band_of(samples: int) -> Iterator[None]:
    """Count planes as bands of a larger one, meanwhile, in this thread and its workers."""
    token = _whole.set(samples)
    try:
        yield
    finally:
        _whole.reset(token)


def compiled_pays(samples: int) -> bool:
    """Whether a compiled loop is faster than array code that gives the same bits.

    The first loop of a process loads the compiler, which takes longer than array code for most
    pictures.

    Parameters
    ----------
    samples : int
        That array code passes once.
    """
    return samples >= (WORTH_COMPILING if "numba" in sys.modules else _WORTH_LOADING)


def tell_of_compiling(listener: Listener | None) -> None:
    """Set the callback for each loop that is compiled from now on; None removes it."""
    _state.listener = listener


def compiling(name: str) -> None:
    """Call the hook with the name of a loop."""
    if _state.listener is not None:
        _state.listener(name)


def run_alone() -> None:
    """Say that this process runs no compiled loops but the program's own: they load faster."""
    _state.alone = True


def is_alone() -> bool:
    """Whether `run_alone` was called."""
    return _state.alone
