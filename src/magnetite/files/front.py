"""Public functions that accept files and arrays as pictures, and text as regions and lines."""

from __future__ import annotations

import inspect
import os
from collections.abc import Callable, Iterable, Mapping
from functools import wraps
from pathlib import Path
from typing import Any, ParamSpec, TypeVar

from magnetite.core.errors import InputError
from magnetite.core.picture import as_picture
from magnetite.core.picture.region import Region
from magnetite.core.picture.rows import Rows
from magnetite.files.camera import read_chart
from magnetite.files.opening import read_bytes
from magnetite.files.reading import read
from magnetite.files.resources import DiskFiles

Arguments = ParamSpec("Arguments")
Result = TypeVar("Result")


def from_files(function: Callable[Arguments, Result]) -> Callable[Arguments, Result]:
    """A function that also accepts file names as pictures, charts and streams.

    The annotations of its parameters say which they are; a region may be text. Files named by
    settings are read from the disk, and titles default to the names of the pictures' files.
    """
    signature = inspect.signature(function)
    readers = {
        name: reader
        for name, parameter in signature.parameters.items()
        if (reader := _READERS.get(str(parameter.annotation).removesuffix(" | None")))
    }
    optional = {name for name in readers if signature.parameters[name].default is None}
    titles = {
        name
        for name, parameter in signature.parameters.items()
        if name in ("name", "names", "titles") and parameter.default is parameter.empty
    }

    @wraps(function)
    def reading(*arguments: Arguments.args, **settings: Arguments.kwargs) -> Result:
        given = signature.bind_partial(*arguments, **settings).arguments
        for name in readers.keys() & given.keys():
            if given[name] is not None or name not in optional:
                given[name] = readers[name](given[name])
        if given.get("files") is None and "files" in signature.parameters:
            given["files"] = DiskFiles()
        if origins := _origins(given):
            for name in titles - given.keys():
                given[name] = origins[0] if name == "name" else origins
        bound = inspect.BoundArguments(signature, given)
        return function(*bound.args, **bound.kwargs)

    return reading


def _is_name(source: object) -> bool:
    return isinstance(source, str | os.PathLike)


def _picture(source: Any) -> Rows:
    if _is_name(source):
        return read(source)
    return source if isinstance(source, Rows) else as_picture(source)


def _pictures(sources: Any) -> list[Rows | None]:
    if _is_name(sources) or isinstance(sources, Rows) or not isinstance(sources, Iterable):
        raise InputError(f"expected a list of pictures, got {sources!r}")
    return [None if one is None else _picture(one) for one in sources]


def _one_or_more(sources: Any) -> Rows | list[Rows | None]:
    return _pictures(sources) if isinstance(sources, list | tuple) else _picture(sources)


def _stream(source: Any) -> Any:
    return read_bytes(Path(source)) if _is_name(source) else source


def _chart(source: Any) -> Any:
    return read_chart(Path(source)) if _is_name(source) else source


def _region(source: Any) -> Any:
    return Region.parse(source) if isinstance(source, str) else source


def _origins(given: Mapping[str, Any]) -> list[str]:
    """Names of the pictures among the arguments."""
    named = [value for key, value in given.items() if key in ("picture", "pictures")]
    every = named[0] if named and isinstance(named[0], list) else named
    return ["" if one is None else Path(one.origin).name for one in every]


_READERS: dict[str, Callable[[Any], Any]] = {
    "Picture": _picture,
    "Rows | Samples": _picture,
    "Picture | Samples": _picture,
    "Picture | Samples | Sequence[Picture | Samples]": _one_or_more,
    "Sequence[Picture]": _pictures,
    "Sequence[Picture | None]": _pictures,
    "Iterable[Picture]": _pictures,
    "bytes": _stream,
    "Chart": _chart,
    "Region": _region,
}
