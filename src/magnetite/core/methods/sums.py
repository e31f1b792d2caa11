"""Figures that are sums over positions: of bands of a picture, added up, as of the whole."""

from __future__ import annotations

import inspect
import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.arrays import Pixels

#: Numbers, or arrays of counts.
Totals = tuple[Any, ...]


class Part(NamedTuple):
    """Where a part lies in its picture."""

    #: Its own rows, from its first one on; those that follow are shared with the next part.
    rows: int
    #: Whether it reaches the picture's upper and lower edge.
    top: bool = True
    bottom: bool = True


def added(one: Totals, other: Totals) -> Totals:
    """Totals of two parts, term by term."""
    return tuple(a + b for a, b in zip(one, other, strict=True))


def largest(one: Totals, other: Totals) -> Totals:
    """The larger of each term of two parts."""
    return tuple(map(max, one, other))


def quotient(totals: Totals) -> float:
    """A sum over how many there were: a mean."""
    return float(totals[0] / totals[1])


def root_quotient(totals: Totals) -> float:
    """The root of that: a root mean square of a sum of squares."""
    return math.sqrt(quotient(totals))


def moments(values: Pixels) -> Totals:
    """Number of values, any shape, their mean, and the sum of squared differences from it."""
    if values.size == 0:
        return 0, 0.0, 0.0
    mean = float(values.mean(dtype=np.float64))
    return values.size, mean, float(np.square(values - mean).sum(dtype=np.float64))


def pooled(one: Totals, other: Totals) -> Totals:
    """`moments` of two parts together (Chan, Golub and LeVeque, Stanford STAN-CS-79-773, 1979)."""
    (n1, mean1, squares1), (n2, mean2, squares2) = one, other
    n, apart = max(1, n1 + n2), mean2 - mean1
    return n1 + n2, mean1 + apart * n2 / n, squares1 + squares2 + apart**2 * n1 * n2 / n


def variance(totals: Totals) -> float:
    """Population variance by `moments`."""
    return float(totals[2] / totals[0])


@dataclass(frozen=True)
class Sums:
    """A metric or gauge taken apart. Each function takes of its arguments those that it names.

    Parameters
    ----------
    accumulate : function
        Totals of a part of the picture, or of both pictures; it may also name `part`, a `Part`.
    finish : function
        The figure from the totals of the whole.
    combine : function
        Totals of two parts.
    overlap : int or function
        Rows that neighbouring parts must share.
    all_rows : bool
        Whether the picture's last rows count, in which no window begins.
    digital : bool
        Whether only pictures of digital numbers are taken apart.
    """

    accumulate: Callable[..., Totals]
    finish: Callable[..., float]
    combine: Callable[[Totals, Totals], Totals] = added
    overlap: int | Callable[..., int] = 0
    all_rows: bool = False
    digital: bool = False

    def of_part(self, *samples: Pixels, **arguments: Any) -> Totals:
        """Totals of a part."""
        return self.accumulate(*samples, **_named(self.accumulate, arguments))

    def score(self, totals: Totals, **arguments: Any) -> float:
        """The figure of the whole."""
        return self.finish(totals, **_named(self.finish, arguments))

    def shared_rows(self, **arguments: Any) -> int:
        """Rows that neighbouring parts must share."""
        if isinstance(self.overlap, int):
            return self.overlap
        return self.overlap(**_named(self.overlap, arguments))


def _named(function: Callable[..., Any], arguments: dict[str, Any]) -> dict[str, Any]:
    names = inspect.signature(function).parameters
    return {name: value for name, value in arguments.items() if name in names}
