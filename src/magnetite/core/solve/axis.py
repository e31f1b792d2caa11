"""Where the values of a setting lie for a search."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import NamedTuple

#: Spans from 0 are searched over this many powers of ten below their upper end, from this share
#: of it.
_DECADES, _START = 5, 0.02


class Span(NamedTuple):
    """Values between which a setting can be solved for, in the unit that `Kind.at` takes."""

    low: float
    high: float


@dataclass(frozen=True)
class Axis:
    """Positions of the values of a span: logarithms, or evenly on 0 to 10 if some are negative."""

    span: Span
    #: Powers of ten that a span from 0 covers.
    decades: int = _DECADES

    @property
    def _even(self) -> bool:
        return self.span.low < 0

    @property
    def low(self) -> float:
        if self._even:
            return 0.0
        return math.log(self.span.low or self.span.high * 10.0**-self.decades)

    @property
    def high(self) -> float:
        return 10.0 if self._even else math.log(self.span.high)

    @property
    def start(self) -> float:
        """Where a search begins."""
        if self._even or self.span.low > 0:
            return (self.low + self.high) / 2
        return math.log(_START * self.span.high)

    def number(self, position: float) -> float:
        """The value at a position, within the span."""
        if self._even:
            return self.span.low + (self.span.high - self.span.low) * position / 10
        return min(max(math.exp(position), self.span.low), self.span.high)
