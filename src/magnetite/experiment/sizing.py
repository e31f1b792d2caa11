"""How large an experiment is: rows, time and disk, and which difference it can show."""

from __future__ import annotations

import math
import random
import time
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from magnetite.core.analysis.simultaneous import critical_value, pairwise
from magnetite.core.compute.threads import cores
from magnetite.core.quantities import counted
from magnetite.experiment.depths import unlike_depths_of
from magnetite.experiment.plan import Plan
from magnetite.experiment.runner import distinct
from magnetite.experiment.tasks import Group, PlanJob, Task, Work
from magnetite.experiment.work import Done, perform

#: Degraded pictures that are tried for the time that the whole takes.
_PROBES = 4
#: Chance of finding a difference of the size that is stated, at the level of 5 %.
_POWER = 0.8
#: Bytes of a row in the ledger and the tables, and of each of its figures.
_ROW, _FIGURE = 700, 90


@dataclass(frozen=True)
class Size:
    """Estimated time and disk space of a plan."""

    rows: int
    figures: int
    references: int
    repeats: int
    #: Seconds on all cores; by the probes.
    seconds: float
    disk: float
    #: Treatments that a ranking compares, and the smallest difference of a metric between two of
    #: them that it shows, in sd between references.
    treatments: int
    smallest: float | None
    #: References that are left out, and why rows of the probes fail and figures are missing.
    problems: tuple[str, ...] = ()

    def lines(self) -> list[str]:
        """The size in words."""
        return [
            f"{counted(self.rows, 'row')} of {counted(self.figures, 'figure')}: "
            f"{counted(self.references, 'reference')}, {counted(self.repeats, 'repeat')}",
            f"about {_time(self.seconds)} on {cores()} cores; {self.disk / 2**20:.1f} MiB on disk, "
            "pictures apart",
            self._shown(),
            *self.problems,
        ]

    def _shown(self) -> str:
        if self.references < 2:
            return "one reference alone says nothing about others"
        if self.smallest is None:
            return "one treatment alone is compared with no other"
        both = "the two treatments"
        level = "level 5 %"
        if self.treatments > 2:
            both = f"two of the {self.treatments} treatments"
            level += " for all pairs together"
        return (
            f"a difference of {both} shows (power 80 %, {level}) from {self.smallest:.2f} times "
            "its sd between references"
        )


def size_of(plan: Plan, base: Path) -> Size:
    """The size of a plan, from a few timed probes."""
    job = PlanJob.of(plan, base)
    metrics, gauges = job.metrics, job.gauges
    references, copies = distinct(job.sources)
    groups = list(job.groups(references))
    rows = sum(len(cells) for _, _, cells in groups)
    spread = _probes(groups)
    taken, results = 0.0, []
    for turn in range(2):  # the first one compiles
        taken = 0.0
        for reference, degradation, cells in spread[: 1 if turn == 0 else None]:
            works = tuple(Work(cell, chain, metrics, gauges) for cell, chain in cells)
            start = time.perf_counter()
            done = perform(Task(reference.source, degradation, cells[0][0].seed, works, job.base))
            taken += time.perf_counter() - start
            results += [(reference.facts.name, one) for one in done]
    share = sum(map(_pixels, groups)) / sum(map(_pixels, spread))
    figures = len(metrics.steps) + len(gauges.steps)
    treatments = max(len(cells) for _, _, cells in groups)
    return Size(
        rows, figures, len(references), plan.repeats, taken * share / max(1, cores() / 2),
        rows * (_ROW + _FIGURE * figures), treatments, _smallest(len(references), treatments),
        (*copies, *_problems(results), *unlike_depths_of(job, references)),
    )  # fmt: skip


def _probes(groups: Sequence[Group]) -> list[Group]:
    """A few groups, of references of every colour and depth.

    At random, with a fixed seed: every third group may be of one degradation alone.
    """
    mixed = random.Random(0).sample(groups, len(groups))
    first = {(one[0].facts.channels, one[0].facts.bits): one for one in reversed(mixed)}
    chosen = list(first.values())
    return [*chosen, *(one for one in mixed if one not in chosen)][: max(_PROBES, len(chosen))]


def _problems(results: Iterable[tuple[str, Done]]) -> tuple[str, ...]:
    """Reasons of rows that fail and of figures that are missing, each with one reference."""
    found: dict[str, str] = {}
    for reference, done in results:
        if done.reason is not None:
            found.setdefault(done.reason, f"rows will fail, such as of {reference}: {done.reason}")
        for label, reason in done.left_out.items():
            found.setdefault(label, f"{label} will be missing, such as of {reference}: {reason}")
    return tuple(found.values())


def _pixels(group: Group) -> int:
    """Pixels that are treated with a degraded picture."""
    reference, _, cells = group
    return reference.facts.width * reference.facts.height * len(cells)


def _smallest(references: int, treatments: int) -> float | None:
    """Smallest mean of the paired differences of two treatments that a ranking shows, in their sd.

    By the noncentral distribution of Student's t.
    """
    from scipy.special import nctdtrinc

    if references < 2 or treatments < 2:
        return None
    critical = critical_value(references, pairwise(treatments))
    return float(nctdtrinc(references - 1, 1 - _POWER, critical)) / math.sqrt(references)


def _time(seconds: float) -> str:
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"
