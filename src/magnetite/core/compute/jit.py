"""Compiled loops: kept in the user's cache folder where there is one that can be written."""

from __future__ import annotations

import sys
from collections.abc import Callable
from importlib import import_module
from typing import Any, Protocol, TypeVar, cast

import numba
import numpy as np
from numba.core import event

from magnetite.core.arrays import Samples
from magnetite.core.compute.compiling import compiling, is_alone

Function = TypeVar("Function", bound=Callable[..., Any])
#: What every loop is compiled with: it lets other threads run, and divides as NumPy does.
_FLAGS: dict[str, Any] = {"nogil": True, "error_model": "numpy", "no_cfunc_wrapper": True}


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


class Decorator(Protocol):
    """Takes a function and gives one of the same signature."""

    def __call__(self, function: Function, /) -> Function: ...


def compiled(**flags: Any) -> Decorator:
    """A decorator that compiles a function when it is first called.

    Where the compiler finds no folder to keep the result in, it compiles again in every process.

    Parameters
    ----------
    flags
        Of the compiler, beside those that all loops have.
    """

    def decorate(function: Function) -> Function:
        try:
            return cast(Function, numba.njit(cache=True, **_FLAGS, **flags)(function))
        except RuntimeError:  # no folder can be written
            return cast(Function, numba.njit(**_FLAGS, **flags)(function))

    return decorate


def readable(array: Samples) -> Samples:
    """The array as loops are compiled for it: contiguous and read-only, a copy only if need be."""
    view = np.ascontiguousarray(array).view()
    view.flags.writeable = False
    return view


class _Told(event.Listener):
    """Passes on which function is compiled, not those that the cache has."""

    def on_start(self, event: Any) -> None:
        compiling(event.data["dispatcher"].py_func.__name__)

    def on_end(self, event: Any) -> None:
        """Nobody needs to hear of the end."""


event.register("numba:compile", _Told())  # type: ignore[no-untyped-call]


def is_kept() -> bool:
    """Whether compiled loops are kept for the next process."""
    try:
        numba.njit(cache=True)(is_kept)
    except RuntimeError:
        return False
    return True
