"""Intermediate results that metrics of one pair share: computed once, evicted by age.

A metric asks with `shared`; outside a `Sharing` it simply computes.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from threading import Lock
from typing import Any, TypeVar

import numpy as np

Result = TypeVar("Result")
#: Bytes of results that are kept at most.
ROOM = 2**29


class Sharing:
    """Results by their sources: objects, known by their identity, which are held."""

    def __init__(self, room: int = ROOM) -> None:
        self._left = room
        self._known: dict[tuple[Any, ...], tuple[tuple[Any, ...], Any]] = {}
        #: Results of a test picture, evicted with it.
        self._passing: set[int] = set()
        self._lock = Lock()
        #: Held while a result is computed, so that another thread waits for it.
        self._making: dict[tuple[Any, ...], Lock] = {}

    @contextmanager
    def open(self) -> Iterator[None]:
        """Let metrics share by this while they are computed."""
        before = _open.set(self)
        try:
            yield
        finally:
            _open.reset(before)

    def get(
        self, make: Callable[..., Result], sources: tuple[Any, ...], settings: Mapping[str, Any]
    ) -> Result:
        """The result of `make`, from the cache where it was made of these sources and settings."""
        key = (make, *((name, _frozen(value)) for name, value in settings.items()),
               *map(id, sources))  # fmt: skip
        with self._lock:
            making = self._making.setdefault(key, Lock())
        with making:
            if key in self._known:
                result: Result = self._known[key][1]
                return result
            made = make(*sources, **settings)
            with self._lock:
                self._keep(key, sources, made)
        return made

    def _keep(self, key: tuple[Any, ...], sources: tuple[Any, ...], made: Any) -> None:
        size = _size(made)
        if size > self._left:
            return
        self._left -= size
        self._known[key] = (sources, made)
        if any(id(source) in self._passing for source in sources):
            self._passing.update(map(id, _parts(made)))

    def passing(self, source: Any) -> None:
        """Say that a source will be forgotten, with all that is made from it."""
        self._passing.add(id(source))

    def forget(self) -> None:
        """Evict the results of the test picture."""
        for key, (sources, made) in list(self._known.items()):
            if any(id(source) in self._passing for source in sources):
                self._left += _size(made)
                del self._known[key]
        self._passing.clear()
        self._making.clear()


_open: ContextVar[Sharing | None] = ContextVar("sharing", default=None)


def shared(make: Callable[..., Result], *sources: Any, **settings: Any) -> Result:
    """The result of `make` for sources and settings, computed once while a `Sharing` is open.

    Parameters
    ----------
    make : function
        Of a module: closures are not known again.
    sources : objects
        Known by their identity, such as pictures.
    **settings
        Known by their value.
    """
    sharing = _open.get()
    if sharing is None:
        return make(*sources, **settings)
    return sharing.get(make, sources, settings)


def _frozen(value: Any) -> Any:
    """A setting as a key."""
    if isinstance(value, np.ndarray):
        return value.shape, value.dtype.str, value.tobytes()
    return value


def _parts(made: Any) -> list[Any]:
    """The result and its parts."""
    if isinstance(made, list | tuple):
        return [made, *(part for item in made for part in _parts(item))]
    return [made]


def _size(made: Any) -> int:
    return sum(part.nbytes for part in _parts(made) if isinstance(part, np.ndarray))
