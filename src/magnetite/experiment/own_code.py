"""Digest of the code of methods that are declared outside of this package.

Their versions are raised by hand, if at all, while a script is edited: results of an earlier
function of the same name must not be reused.
"""

from __future__ import annotations

import hashlib
import inspect
from collections.abc import Iterator
from types import CodeType, FunctionType
from typing import Any

import numpy as np

#: Values whose text does not change from process to process.
_PLAIN = (bool, int, float, complex, str, bytes, type(None), np.generic)


def digest_of_code(method: Any) -> str | None:
    """SHA-256 of a method's function, of the functions of its package that it calls, and of the
    plain constants, containers and arrays that these refer to.

    None for the methods of this package, whose versions are tested, and for compiled ones.
    """
    function = inspect.unwrap(method.function)
    package = _package(function)
    if package == __name__.split(".")[0] or not isinstance(function, FunctionType):
        return None
    parts = "\n".join(_parts(function, package, set()))
    return hashlib.sha256(parts.encode("utf-8", "backslashreplace")).hexdigest()


def _package(function: Any) -> str:
    return str(function.__module__).split(".")[0]


def _parts(function: FunctionType, package: str, seen: set[int]) -> Iterator[str]:
    """Texts of a function's code and defaults, and of the globals that it refers to."""
    seen.add(id(function))
    yield from _code(function.__code__, function.__doc__)
    defaults = [*(function.__defaults__ or ()), *(function.__kwdefaults__ or {}).items()]
    yield from (_text(value) for value in defaults)
    cells = zip(function.__code__.co_freevars, function.__closure__ or (), strict=True)
    known = function.__globals__ | {name: cell.cell_contents for name, cell in cells}
    for name in sorted(_names(function.__code__)):
        value: Any = known.get(name)
        value = inspect.unwrap(getattr(value, "py_func", value))
        if isinstance(value, FunctionType):
            if _package(value) == package and id(value) not in seen:
                yield name
                yield from _parts(value, package, seen)
        elif name in known:
            yield f"{name} {_text(value)}"


def _code(code: CodeType, docstring: str | None) -> Iterator[str]:
    """Instructions, names and constants, without the docstring."""
    yield f"{code.co_code.hex()} {code.co_names} {code.co_varnames}"
    for constant in code.co_consts:
        if isinstance(constant, CodeType):
            yield from _code(constant, None)
        elif constant != docstring:
            yield _text(constant)


def _names(code: CodeType) -> set[str]:
    """Names that a function and those inside it look up."""
    inner = (_names(one) for one in code.co_consts if isinstance(one, CodeType))
    return {*code.co_names, *code.co_freevars}.union(*inner)


def _text(value: Any) -> str:
    """A plain value as text; the type of any other."""
    if isinstance(value, np.ndarray):
        return f"{value.dtype} {value.shape} {hashlib.sha256(value.tobytes()).hexdigest()}"
    if isinstance(value, list | tuple):
        return f"({', '.join(map(_text, value))})"
    if isinstance(value, set | frozenset):
        return f"{{{', '.join(sorted(map(_text, value)))}}}"
    if isinstance(value, dict):
        return f"{{{', '.join(f'{_text(k)}: {_text(v)}' for k, v in value.items())}}}"
    return repr(value) if isinstance(value, _PLAIN) else type(value).__qualname__
