"""Inputs and settings of a method, as its signature declares them."""

from __future__ import annotations

import inspect
import typing
from collections.abc import Callable
from typing import Annotated, Any, Literal, get_args, get_origin

from magnetite.core.methods.declarations import Parameter
from magnetite.core.methods.parameters import Choice, Kind


def inputs_of(function: Callable[..., Any]) -> tuple[str, ...]:
    """Names of the pictures and other inputs of a method, before the `*` of its signature."""
    parameters = inspect.signature(function).parameters.values()
    return tuple(p.name for p in parameters if p.kind is not inspect.Parameter.KEYWORD_ONLY)


def settings_of(function: Callable[..., Any]) -> tuple[Parameter, ...]:
    """Settings of a method, after the `*` of its signature.

    Raises
    ------
    TypeError
        If the annotation of one has no kind.
    """
    hints = typing.get_type_hints(function, include_extras=True)
    return tuple(
        Parameter(p.name, _kind_of(hints[p.name]), p.default, _meaning_of(hints[p.name]))
        for p in inspect.signature(function).parameters.values()
        if p.kind is inspect.Parameter.KEYWORD_ONLY
    )


def _kind_of(hint: Any) -> Kind:
    for extra in getattr(hint, "__metadata__", ()):
        if isinstance(extra, Kind):
            return extra
    plain = getattr(hint, "__origin__", hint) if get_origin(hint) is Annotated else hint
    if get_origin(plain) is Literal:
        return Choice(get_args(plain))
    raise TypeError(f"a setting's annotation must be a Literal or carry a Kind, not {hint}")


def _meaning_of(hint: Any) -> str:
    """The text of an annotation."""
    return next((one for one in getattr(hint, "__metadata__", ()) if isinstance(one, str)), "")
