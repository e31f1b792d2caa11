"""Caches of results that follow from the declared methods."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

Cached = TypeVar("Cached", bound=Any)
_emptied: list[Callable[[], object]] = []


def follows_declarations(cached: Cached) -> Cached:
    """Decorator of a function of `functools.lru_cache`: emptied when declarations change.

    A name may have stood for nothing, or for another method, before.
    """
    _emptied.append(cached.cache_clear)
    return cached


def declarations_changed() -> None:
    """Empty the caches: a method was declared or forgotten."""
    for empty in _emptied:
        empty()
