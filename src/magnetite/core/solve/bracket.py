"""Find where a figure meets a value: strides until it is passed, then closer from both sides."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Literal

from magnetite.core.errors import PictureError
from magnetite.core.solve.axis import Axis

MOST_TRIES = 20
#: A target that no stride passed over is looked for next to the closest figure up to this try.
_LAST_SCAN = 13
#: First stride of the search, in the units of `Axis`.
_STRIDE = math.log(4)
#: A bracket this narrow holds no solution; a wider one holds none if its
#: ends are further apart than this many tolerances: the figure jumps there.
_NARROW, _JUMP_WIDTH, _JUMP = 1e-4, 1e-3, 3
#: Looks at a setting, new or known, after which the search ends in any case; and looks in a row
#: at known ones after which no others lie there.
_MOST_LOOKS, _REPEATS = 200, 4
#: Strides towards settings that the picture cannot take are cut down to this.
_SHORT = 0.1

Sense = Literal["=", ">=", "<="]


@dataclass(frozen=True)
class Goal:
    """A value that a figure is to have, or to have at least or at most, and how closely.

    Of numbers that satisfy `>=` or `<=`, the one whose figure is nearest to the value is wanted.
    """

    value: float
    tolerance: float
    sense: Sense = "="

    def satisfied(self, excess: float) -> bool:
        """Whether a figure so far above the value is allowed."""
        if self.sense == "=":
            return abs(excess) <= self.tolerance
        return excess >= 0 if self.sense == ">=" else excess <= 0


def _width(pair: tuple[float, float]) -> float:
    return pair[1] - pair[0]


@dataclass
class Search:
    """Bracketing, then regula falsi with bisection.

    Parameters
    ----------
    evaluate : function
        The figure at a number of the axis; `PictureError` where it has none.
    axis : Axis
    spell : function
        A number as it would be written: numbers of one spelling are evaluated once.
    goal : Goal
    """

    evaluate: Callable[[float], float]
    axis: Axis
    spell: Callable[[float], str]
    goal: Goal
    #: Excess over the target at every position tried.
    tried: dict[float, float] = field(default_factory=dict)
    known: dict[str, float] = field(default_factory=dict)
    looks: int = 0

    @property
    def tries(self) -> int:
        return len(self.known)

    @property
    def _over(self) -> bool:
        return self._reached or self.tries >= MOST_TRIES or self.looks >= _MOST_LOOKS

    def run(self) -> tuple[float, float]:
        """The number that comes closest, and the figure there."""
        self._bracket()
        probes: Iterator[float] | None = None
        while self.crossings() and not self._over:
            usable = [pair for pair in self.crossings() if not self._jumps(*pair)]
            if usable:
                self._halve(*min(usable, key=self._worse_end))
            else:  # the figure jumps over the target: look for another crossing nearby
                probes = probes or self._beside(self.crossings()[0][0])
                position = next(probes, None)
                if position is None:
                    break
                self._excess(position)
        allowed = [u for u, excess in self.tried.items() if self.goal.satisfied(excess)]
        position = min(allowed or self.tried, key=lambda u: abs(self.tried[u]))
        return self.axis.number(position), self.tried[position] + self.goal.value

    def _halve(self, low: float, high: float) -> None:
        before = self.tries
        position = self._within(low, high)
        if self._excess(position) == self._excess(low) and self.tries == before:
            # Whole numbers: nothing lies between but the jump.
            self.tried[high - _NARROW / 2] = self.tried[low]

    def _jumps(self, low: float, high: float) -> bool:
        apart = abs(self.tried[high] - self.tried[low]) > _JUMP * self.goal.tolerance
        return high - low < (_JUMP_WIDTH if apart else _NARROW)

    def _worse_end(self, pair: tuple[float, float]) -> float:
        return max(abs(self.tried[u]) for u in pair)

    def _beside(self, jump: float) -> Iterator[float]:
        """Positions ever further from a jump, on both sides in turn."""
        for i in range(MOST_TRIES):
            position = jump + 0.0015 * 1.6 ** (i // 2) * (-1) ** i
            if self.axis.low <= position <= self.axis.high:
                yield position

    @property
    def _reached(self) -> bool:
        return any(
            abs(excess) <= self.goal.tolerance and self.goal.satisfied(excess)
            for excess in self.tried.values()
        )

    def _excess(self, position: float) -> float:
        """Figure minus target at a position; NaN for a setting that the picture cannot take."""
        self.looks += 1
        number = self.axis.number(position)
        spelled = self.spell(number)
        if spelled not in self.known:
            try:
                self.known[spelled] = self.evaluate(number) - self.goal.value
            except PictureError:
                if not self.tried:
                    raise
                self.known[spelled] = math.nan
        excess = self.known[spelled]
        if not math.isnan(excess):
            self.tried[position] = excess
        return excess

    def _bracket(self) -> None:
        """Walk from the start to where the sign changes, downhill first, then uphill."""
        low, high, start = self.axis.low, self.axis.high, self.axis.start
        first = self._excess(start)
        step = min(_STRIDE, high - start)
        second = self._excess(start + step)
        towards = step if abs(second) < abs(first) or not math.isfinite(first) else -step
        for direction in (towards, -towards):
            position, size = start, abs(direction)
            bound = high if direction > 0 else low
            while not self.crossings() and not self._over and position != bound:
                ahead = min(position + size, high) if direction > 0 else max(position - size, low)
                if not math.isnan(self._excess(ahead)):
                    position, size = ahead, 1.5 * size
                elif size < _SHORT:
                    break
                else:  # more than the picture can take
                    size /= 3
        repeats = 0
        while not self.crossings() and not self._over and self.tries < _LAST_SCAN:
            before = self.tries
            self._excess(self._beside_best())
            repeats = 0 if self.tries > before else repeats + 1
            if repeats > _REPEATS:
                return

    def _beside_best(self) -> float:
        """Middle of the wider gap next to the position that came closest: a peak may hide there."""
        positions = sorted(self.tried)
        best = positions.index(min(positions, key=lambda u: abs(self.tried[u])))
        near = positions[max(0, best - 1) : best + 2]
        low, high = max(itertools.pairwise(near), key=_width)
        return (low + high) / 2

    def crossings(self) -> list[tuple[float, float]]:
        """Neighbouring positions with the target between them."""
        positions = sorted(self.tried)
        return [
            (a, b)
            for a, b in itertools.pairwise(positions)
            if (self.tried[a] > 0) != (self.tried[b] > 0)
        ]

    def _within(self, low: float, high: float) -> float:
        """The next position between two: by regula falsi, away from both ends."""
        one, two = self.tried[low], self.tried[high]
        middle = (low + high) / 2
        if not (math.isfinite(one) and math.isfinite(two)) or (one > 0) == (two > 0):
            return middle
        # Every third try halves, so that a bent curve cannot hold one end for ever.
        if self.tries % 3 == 2:
            return middle
        guess = low + (high - low) * one / (one - two)
        margin = 0.02 * (high - low)
        return min(max(guess, low + margin), high - margin)
