"""Compiled loops: kept in the user's cache folder where there is one that can be written."""

from __future__ import annotations

import hashlib
import sys
from collections.abc import Callable, Iterator
from contextlib import suppress
from importlib import import_module
from pathlib import Path
from types import CodeType
from typing import Any, Protocol, TypeVar, cast

import numba
import numpy as np
from numba.core import event
from numba.core.caching import FunctionCache, IndexDataCacheFile
from numba.core.dispatcher import Dispatcher

from magnetite.core.arrays import Samples
from magnetite.core.compute.compiling import compiling, is_alone

Function = TypeVar("Function", bound=Callable[..., Any])
#: Flags of every loop: it releases the GIL, and divides as NumPy does.
_FLAGS: dict[str, Any] = {"nogil": True, "error_model": "numpy", "no_cfunc_wrapper": True}

#: A process waits for another that compiles the same loop, s at most.
_PATIENCE = 60.0


def _skip_blas() -> None:
    """Let Numba find no BLAS: it imports SciPy's linear algebra for that, and no loop here uses it.

    Loops of others in this process could not call `np.dot` any more.
    """
    name = "scipy.linalg.cython_blas"
    if name in sys.modules:
        return
    sys.modules[name] = None  # type: ignore[assignment]
    try:
        import_module("numba.np.arraymath")
    finally:
        del sys.modules[name]


if is_alone():
    _skip_blas()


class _SharedCache(FunctionCache):
    """The cache of a loop: one process compiles it, others wait for that and load the result.

    A process waits only for loops that its own one calls, so none waits for another in a circle.

    A result is kept for the sources of the loop, of those that it calls, and for the constants
    that they take: Numba alone looks at the loop's own file, and would keep using old code of
    functions and constants of other modules.
    """

    _lock: Any = None

    def __init__(self, function: Callable[..., Any]) -> None:
        super().__init__(function)
        stamp = self._impl.locator.get_source_stamp(), _digest(function)
        self._cache_file = IndexDataCacheFile(self._cache_path, self._impl.filename_base, stamp)

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        found = super().load_overload(sig, target_context)
        if found is None:
            self._acquire()
            found = super().load_overload(sig, target_context)
            if found is not None:
                self._release()
        return found

    def save_overload(self, sig: Any, data: Any) -> None:
        try:
            super().save_overload(sig, data)
        finally:
            self._release()

    def _acquire(self) -> None:
        from filelock import FileLock, Timeout

        # Without locks, or where another process was stopped: each compiles for itself.
        with suppress(OSError, NotImplementedError, Timeout):
            self._impl.locator.ensure_cache_path()
            path = Path(self.cache_path) / f"{self._impl.filename_base}.lock"
            self._lock = self._lock or FileLock(path, timeout=_PATIENCE)
            self._lock.acquire()

    def _release(self) -> None:
        if self._lock is not None:
            self._lock.release()


def _digest(function: Callable[..., Any]) -> str:
    """Digest of the sources and constants that a loop is compiled from."""
    return hashlib.sha256("\n".join(sorted(_ingredients(function, set()))).encode()).hexdigest()


def _ingredients(function: Any, seen: set[int]) -> Iterator[str]:
    """File versions of a loop and of those that it calls, and the constants that they take."""
    seen.add(id(function))
    version = Path(function.__code__.co_filename).stat()
    yield f"{function.__module__} {version.st_mtime_ns} {version.st_size}"
    for name in _names(function.__code__):
        value = function.__globals__.get(name)
        if isinstance(value, Dispatcher):
            if id(value.py_func) not in seen:
                yield from _ingredients(value.py_func, seen)
        elif isinstance(value, np.ndarray):
            yield f"{name} {value.dtype} {value.shape} {value.tobytes().hex()}"
        elif isinstance(value, (bool, int, float, complex, str, tuple, np.generic)):
            yield f"{name} {value!r}"


def _names(code: CodeType) -> Iterator[str]:
    """Names that a function and those inside it look up."""
    yield from code.co_names
    for constant in code.co_consts:
        if isinstance(constant, CodeType):
            yield from _names(constant)


class Decorator(Protocol):
    """Takes a function and gives one of the same signature."""

    def __call__(self, function: Function, /) -> Function: ...


def compiled(**flags: Any) -> Decorator:
    """A decorator that compiles a function when it is first called.

    Where the compiler finds no folder to keep the result in, it compiles again in every process.

    Parameters
    ----------
    flags
        Of the compiler, besides those that all loops have.
    """

    def decorate(function: Function) -> Function:
        try:
            loop: Any = numba.njit(cache=True, **_FLAGS, **flags)(function)
            loop._cache = _SharedCache(function)
            return cast(Function, loop)
        except RuntimeError:  # no folder can be written
            return cast(Function, numba.njit(**_FLAGS, **flags)(function))

    return decorate


def readable(array: Samples) -> Samples:
    """An array of any shape as loops take it: contiguous, read-only, copied if need be."""
    view = np.ascontiguousarray(array).view()
    view.flags.writeable = False
    return view


class _Told(event.Listener):
    """Calls the hook for each function that is compiled, not for those in the cache."""

    def on_start(self, event: Any) -> None:
        compiling(event.data["dispatcher"].py_func.__name__)

    def on_end(self, event: Any) -> None:
        """No callback for the end."""


event.register("numba:compile", _Told())


def is_kept() -> bool:
    """Whether compiled loops are kept for the next process."""
    try:
        numba.njit(cache=True)(is_kept)
    except RuntimeError:
        return False
    return True
