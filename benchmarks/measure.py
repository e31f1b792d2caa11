"""Parts of a benchmark: work and its yardstick, timed by turns in one run."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass, field
from statistics import median
from typing import Any

Work = Callable[[], object]
#: Takes megapixels; gives the work and its yardstick, or None where the goal is in seconds.
Setting = Callable[[float], tuple[Work, Work | None]]

#: Every case by its name, in the order of their declarations.
CASES: dict[str, Case] = {}


@dataclass(frozen=True)
class Case:
    """One hot path: its set-up at a size, its yardstick, and the goal."""

    name: str
    yardstick: str
    #: Largest ratio of its time to the yardstick's at `size`; None where there is none.
    goal: float | None
    #: Megapixels that the goal is for.
    size: float
    setting: Setting = field(compare=False)
    #: Further sizes that show how time grows.
    sizes: tuple[float, ...] = ()
    #: Samples of a pixel, for memory.
    channels: int = 1
    rounds: int = 5
    #: Whether it belongs to the quick run.
    quick: bool = True
    #: Whether the work is a process of its own: then threads and memory are not ours to say.
    process: bool = False


def case(name: str, **facts: Any) -> Callable[[Setting], Setting]:
    """Declare a case; the function under it sets it up."""

    def declare(setting: Setting) -> Setting:
        CASES[name] = Case(name, setting=setting, **facts)
        return setting

    return declare


#: Rounds that take more seconds are two at most.
_LONG = 5.0


@dataclass(frozen=True)
class Timing:
    """Times of a case at a size, in s, and their ratio round by round."""

    case: str
    yardstick: str
    megapixels: float
    threads: int
    goal: float | None
    seconds: float
    yardstick_seconds: float
    #: Median of the ratios of the rounds, and the middle half of them.
    ratio: float
    low: float
    high: float

    @property
    def met(self) -> bool | None:
        """Whether the goal is met; None where there is none."""
        return None if self.goal is None else self.ratio <= self.goal

    def as_dict(self) -> dict[str, Any]:
        """Plain values, figures of four digits."""
        values = asdict(self) | {"met": self.met}
        return {k: float(f"{v:.4g}") if isinstance(v, float) else v for k, v in values.items()}


def timed(case: Case, megapixels: float, threads: int, rounds: int | None = None) -> Timing:
    """Work and yardstick by turns, after one call of each that warms up.

    Both are timed in every round, so that a change of the machine's speed falls on both.
    """
    work, yardstick = case.setting(megapixels)
    warm = _seconds(work) + (_seconds(yardstick) if yardstick else 0.0)
    rounds = min(rounds or case.rounds, 2 if warm > _LONG else case.rounds)
    pairs = [(once(work), once(yardstick) if yardstick else 1.0) for _ in range(rounds)]
    ratios = sorted(ours / theirs for ours, theirs in pairs)
    quarter = len(ratios) // 4
    ours, theirs = (min(side) for side in zip(*pairs, strict=True))
    return Timing(
        case.name, case.yardstick, megapixels, threads,
        case.goal if megapixels == case.size and threads != 1 else None,
        ours, theirs, median(ratios), ratios[quarter], ratios[-1 - quarter],
    )  # fmt: skip


def once(work: Work) -> float:
    """Seconds of the shortest of the calls, at most ten, that fit into a fifth of a second."""
    times = [_seconds(work)]
    while sum(times) < 0.2 and len(times) < 10:
        times.append(_seconds(work))
    return min(times)


def _seconds(work: Work) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def exponent(timings: Iterable[Timing]) -> float | None:
    """The power of the number of pixels that the time grows with: a line through the logarithms."""
    from numpy import log, polyfit

    points = [(t.megapixels, t.seconds) for t in timings]
    if len(points) < 3:
        return None
    sizes, seconds = zip(*points, strict=True)
    return float(polyfit(log(sizes), log(seconds), 1)[0])
