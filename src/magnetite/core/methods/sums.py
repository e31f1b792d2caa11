"""Metrics that are sums over places: of bands of a picture, added up, as of the whole."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from magnetite.core.arrays import Pixels

Totals = tuple[float, ...]


def added(one: Totals, other: Totals) -> Totals:
    """Totals of two parts, term by term."""
    return tuple(a + b for a, b in zip(one, other, strict=True))


def largest(one: Totals, other: Totals) -> Totals:
    """The larger of each term of two parts."""
    return tuple(map(max, one, other))


def quotient(totals: Totals) -> float:
    """A sum over how many there were: a mean."""
    return totals[0] / totals[1]


def no_overlap() -> int:
    """For metrics of single samples."""
    return 0


@dataclass(frozen=True)
class Sums:
    """A metric taken apart. Each function takes of the metric's arguments those that it names.

    Parameters
    ----------
    accumulate : function
        Totals of a part of both pictures.
    finish : function
        The score from the totals of the whole.
    combine : function
        Totals of two parts.
    overlap : function
        Rows that neighbouring parts must share.
    """

    accumulate: Callable[..., Totals]
    finish: Callable[..., float]
    combine: Callable[[Totals, Totals], Totals] = added
    overlap: Callable[..., int] = no_overlap

    def of_part(self, reference: Pixels, test: Pixels, **arguments: Any) -> Totals:
        """Totals of a part."""
        return self.accumulate(reference, test, **_named(self.accumulate, arguments))

    def score(self, totals: Totals, **arguments: Any) -> float:
        """The score of the whole."""
        return self.finish(totals, **_named(self.finish, arguments))

    def shared_rows(self, **arguments: Any) -> int:
        """Rows that neighbouring parts must share."""
        return self.overlap(**_named(self.overlap, arguments))


def _named(function: Callable[..., Any], arguments: dict[str, Any]) -> dict[str, Any]:
    names = inspect.signature(function).parameters
    return {name: value for name, value in arguments.items() if name in names}
