"""Solve for one setting of a chain by its effect: `--aim ssim=0.80`."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Literal

from magnetite.core.chain import Chain, Step, parse_step
from magnetite.core.declarations import Figure
from magnetite.core.errors import ChainError, PictureError, TargetError
from magnetite.core.parameters import Count, Kind, Span, read_number
from magnetite.core.picture import Picture, as_picture
from magnetite.core.registry import find
from magnetite.core.scoring import gauge, score

MOST_TRIES = 20
#: A figure without a declared tolerance is reached within this share of the target.
RELATIVE_TOLERANCE = 0.005
#: Settings that start at 0 are searched over this many powers of ten below their upper bound,
#: from this share of it.
_DECADES, _START = 5, 0.02
#: A target that no stride passed over is looked for beside the closest figure up to this try.
_LAST_SCAN = 13
#: First stride of the search, in the units of `_Axis`.
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
class Aim:
    """What a setting was solved for, and what came of it."""

    metric: str
    target: float
    reached: float
    tolerance: float
    setting: str
    tries: int
    #: Whether the target is to be met, or is the least or most allowed.
    sense: Sense = "="

    @property
    def words(self) -> str:
        """What was found, for people."""
        near = f" (tolerance {self.tolerance:g})" if self.sense == "=" else ""
        return (
            f"{self.setting} gives {self.metric} {self.reached:.6g}{near}, "
            f"found in {self.tries} tries"
        )


@dataclass(frozen=True)
class Target:
    """A metric or gauge and the value it is to have, or to have at least or at most.

    Of settings that satisfy `>=` or `<=`, the one whose figure is nearest to the value is
    wanted: the least rate, or the strongest degradation.
    """

    step: Step
    value: float
    sense: Sense = "="

    @classmethod
    def parse(cls, text: str) -> Target:
        """Read `psnr=30`, `ssim>=0.95`, `ssim window=7=0.8`; `ChainError` for anything else."""
        name, _, number = text.rpartition("=")
        sense: Sense = ">=" if name.endswith(">") else "<=" if name.endswith("<") else "="
        name = name.rstrip("<>").strip()
        try:
            value = read_number(number.strip().removesuffix("dB"))
        except ValueError:
            value = math.nan
        if not name or not math.isfinite(value):
            raise ChainError(
                f"{text!r} is not an aim: write METRIC=VALUE, METRIC>=VALUE or METRIC<=VALUE, "
                "as in psnr=30"
            )
        kind = "gauge" if find("gauge", name.split()[0]) else "metric"
        return cls(parse_step(name, kind), value, sense)

    def __str__(self) -> str:
        return f"{self.step}{self.sense}{self.value:g}"

    def satisfied(self, excess: float) -> bool:
        """Whether a figure so far above the value is allowed."""
        if self.sense == "=":
            return abs(excess) <= self.tolerance
        return excess >= 0 if self.sense == ">=" else excess <= 0

    @property
    def tolerance(self) -> float:
        """How close counts as reached."""
        declared = self.step.declared(Figure).tolerance
        return float(declared or RELATIVE_TOLERANCE * max(abs(self.value), 1e-9))

    def measure(self, reference: Picture, test: Picture) -> float:
        """The figure of a test picture."""
        text = str(self.step)
        if self.step.method.kind == "gauge":
            return gauge(test, text)[text]
        if test.bits is None and reference.bits is not None:  # what overflows was kept
            reference = as_picture(reference.pixels(), reference.origin)
        return score(reference, test, text)[text]


def solve_chain(
    chain: Chain, target: Target, reference: Picture, make: Callable[[Chain], Picture]
) -> tuple[Chain, Aim]:
    """The chain with its one `auto` setting solved for.

    Parameters
    ----------
    chain : Chain
        With exactly one setting `auto`.
    target : Target
    reference : Picture
    make : function
        The stored picture of a chain; with the same random numbers at every call.

    Raises
    ------
    ChainError
        If not exactly one setting is `auto`.
    TargetError
        If no value of it reaches the target.
    """
    if len(chain.open_settings) != 1:
        raise ChainError(
            f"an aim solves for one setting: write auto for one in {str(chain)!r}, "
            f"not for {len(chain.open_settings)}"
        )
    ((place, key),) = chain.open_settings
    step = chain.steps[place]
    kind = step.method.parameters[key].kind
    span = kind.span()
    if span is None:
        raise ChainError(f"{step.method.name} {key}= cannot be solved for")

    def solved(number: float) -> Chain:
        return chain.with_setting(place, key, kind.at(number))

    def evaluate(number: float) -> float:
        return target.measure(reference, make(solved(number)))

    search = _Search(evaluate, _Axis(span), kind, target)
    number, value = search.run()
    found = solved(number)
    setting = f"{step.method.name} {key}={kind.spell(kind.at(number))}"
    if not target.satisfied(value - target.value):
        raise TargetError(search.miss(step.method.name, key))
    tries = search.tries
    aim = Aim(str(target.step), target.value, value, target.tolerance, setting, tries, target.sense)
    return found, aim


@dataclass(frozen=True)
class _Axis:
    """Where settings lie for the search: by their log; if some are negative, evenly on 0 to 10."""

    span: Span

    @property
    def _even(self) -> bool:
        return self.span.low < 0

    @property
    def low(self) -> float:
        return 0.0 if self._even else math.log(self.span.low or self.span.high * 10.0**-_DECADES)

    @property
    def high(self) -> float:
        return 10.0 if self._even else math.log(self.span.high)

    @property
    def start(self) -> float:
        if self._even or self.span.low > 0:
            return (self.low + self.high) / 2
        return math.log(_START * self.span.high)

    def number(self, place: float) -> float:
        """The setting at a place."""
        if self._even:
            return self.span.low + (self.span.high - self.span.low) * place / 10
        return math.exp(place)


def _width(pair: tuple[float, float]) -> float:
    return pair[1] - pair[0]


@dataclass
class _Search:
    """Bracketing, then regula falsi with bisection."""

    evaluate: Callable[[float], float]
    axis: _Axis
    kind: Kind
    target: Target
    #: Excess over the target at every place tried.
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
        """The setting that comes closest, and the figure there."""
        self._bracket()
        probes: Iterator[float] | None = None
        while self._pairs() and not self._over:
            usable = [pair for pair in self._pairs() if not self._jumps(*pair)]
            if usable:
                self._halve(*min(usable, key=self._worse_end))
            else:  # the figure jumps over the target: look for another crossing nearby
                probes = probes or self._beside(self._pairs()[0][0])
                place = next(probes, None)
                if place is None:
                    break
                self._excess(place)
        allowed = [u for u, excess in self.tried.items() if self.target.satisfied(excess)]
        place = min(allowed or self.tried, key=lambda u: abs(self.tried[u]))
        return self.axis.number(place), self.tried[place] + self.target.value

    def _halve(self, low: float, high: float) -> None:
        before = self.tries
        place = self._within(low, high)
        if self._excess(place) == self._excess(low) and self.tries == before:
            # Whole numbers: nothing lies between but the jump.
            self.tried[high - _NARROW / 2] = self.tried[low]

    def _jumps(self, low: float, high: float) -> bool:
        apart = abs(self.tried[high] - self.tried[low]) > _JUMP * self.target.tolerance
        return high - low < (_JUMP_WIDTH if apart else _NARROW)

    def _worse_end(self, pair: tuple[float, float]) -> float:
        return max(abs(self.tried[u]) for u in pair)

    def _beside(self, jump: float) -> Iterator[float]:
        """Places ever further from a jump, on both sides in turn."""
        for i in range(MOST_TRIES):
            place = jump + 0.0015 * 1.6 ** (i // 2) * (-1) ** i
            if self.axis.low <= place <= self.axis.high:
                yield place

    @property
    def _reached(self) -> bool:
        return any(
            abs(excess) <= self.target.tolerance and self.target.satisfied(excess)
            for excess in self.tried.values()
        )

    def _excess(self, place: float) -> float:
        """Figure minus target at a place; a setting the picture cannot take is no figure."""
        self.looks += 1
        number = self.axis.number(place)
        spelled = self.kind.spell(self.kind.at(number))
        if spelled not in self.known:
            try:
                self.known[spelled] = self.evaluate(number) - self.target.value
            except PictureError:
                if not self.tried:
                    raise
                self.known[spelled] = math.nan
        excess = self.known[spelled]
        if not math.isnan(excess):
            self.tried[place] = excess
        return excess

    def _bracket(self) -> None:
        """Walk from the start to where the sign changes, downhill first, then uphill."""
        low, high, start = self.axis.low, self.axis.high, self.axis.start
        first = self._excess(start)
        step = min(_STRIDE, high - start)
        second = self._excess(start + step)
        towards = step if abs(second) < abs(first) or not math.isfinite(first) else -step
        for direction in (towards, -towards):
            place, size = start, abs(direction)
            bound = high if direction > 0 else low
            while not self._pairs() and not self._over and place != bound:
                ahead = min(place + size, high) if direction > 0 else max(place - size, low)
                if not math.isnan(self._excess(ahead)):
                    place, size = ahead, 1.5 * size
                elif size < _SHORT:
                    break
                else:  # more than the picture can take
                    size /= 3
        repeats = 0
        while not self._pairs() and not self._over and self.tries < _LAST_SCAN:
            before = self.tries
            self._excess(self._beside_best())
            repeats = 0 if self.tries > before else repeats + 1
            if repeats > _REPEATS:
                return

    def _beside_best(self) -> float:
        """Middle of the wider gap beside the place that came closest: a peak may hide there."""
        places = sorted(self.tried)
        best = places.index(min(places, key=lambda u: abs(self.tried[u])))
        near = places[max(0, best - 1) : best + 2]
        low, high = max(itertools.pairwise(near), key=_width)
        return (low + high) / 2

    def _pairs(self) -> list[tuple[float, float]]:
        """Neighbouring places with the target between them."""
        places = sorted(self.tried)
        return [
            (a, b)
            for a, b in itertools.pairwise(places)
            if (self.tried[a] > 0) != (self.tried[b] > 0)
        ]

    def _within(self, low: float, high: float) -> float:
        """Where to look between two places: where a straight line says, but not at the ends."""
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

    def miss(self, name: str, key: str) -> str:
        """What to say where the target was not reached."""
        figures = {u: excess + self.target.value for u, excess in self.tried.items()}
        label = str(self.target.step)

        def at(place: float) -> str:
            setting = self.kind.spell(self.kind.at(self.axis.number(place)))
            return f"{figures[place]:.6g} at {key}={setting}"

        low, high = min(figures, key=figures.__getitem__), max(figures, key=figures.__getitem__)
        if not self._pairs():
            reach = f"goes from {at(low)} to {at(high)}"
            if figures[low] == figures[high]:
                reach = f"is {figures[low]:.6g} at every setting that was tried"
            return f"{self.target} is out of reach of {name}: {label} {reach}"
        below = max((u for u in figures if self.tried[u] <= 0), key=figures.__getitem__)
        above = min((u for u in figures if self.tried[u] > 0), key=figures.__getitem__)
        hint = "; the setting takes whole numbers only" if isinstance(self.kind, Count) else ""
        return (
            f"{self.target} is not met by {name} within {self.target.tolerance:g} in {self.tries} "
            f"tries: the closest were {at(below)} and {at(above)}{hint}; "
            f"write {label}>={self.target.value:g} or {label}<={self.target.value:g} for the "
            "nearest on one side"
        )
