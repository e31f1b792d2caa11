"""What a plan asks for, as tasks that any process can do: plain data."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from magnetite import __version__
from magnetite.core.chain.step import Chain
from magnetite.core.picture import Picture
from magnetite.core.verbs.convert import convert
from magnetite.core.verbs.figures import ALL, parse_figures
from magnetite.experiment.plan import NOTHING, Keep, Plan, reference_files
from magnetite.files.names import shown


@dataclass(frozen=True)
class Source:
    """A reference picture: its file, and how it is taken from there."""

    path: str
    convert: str | None = None
    full_scale: float | None = None

    @property
    def name(self) -> str:
        """The file's name without its ending, as it may be shown."""
        return shown(Path(self.path).stem)

    def load(self) -> Picture:
        """The picture, converted as the plan says."""
        from magnetite.files.reading import read

        picture = read(self.path, full_scale=self.full_scale)
        return picture if self.convert is None else convert(picture, self.convert)


@dataclass(frozen=True)
class Facts:
    """What is known of a reference before anything is done with it."""

    name: str
    digest: str
    width: int
    height: int
    channels: int
    bits: int | None
    activity: float | None


@dataclass(frozen=True)
class Cell:
    """One treated picture: its place in the plan, and what it is, which is its key."""

    reference: str
    digest: str
    degradation_name: str
    degradation: str
    repeat: int
    seed: int
    treatment_name: str
    treatment: str
    #: Digest of the files that the chains name.
    files: str = ""

    @property
    def key(self) -> str:
        """Follows from content alone: samples, chains, files, seed, version of the methods."""
        parts = (
            self.digest, self.degradation, str(self.seed), self.treatment, self.files, __version__,
        )  # fmt: skip
        return hashlib.sha256("\0".join(parts).encode()).hexdigest()[:32]


@dataclass(frozen=True)
class Work:
    """One treatment of a task: the cell, its chain, and which figures are still wanted."""

    cell: Cell
    treatment: Chain | None
    metrics: tuple[str, ...]
    gauges: tuple[str, ...]
    keep: bool = False
    #: Whether a metric that the pictures do not suit is a failure; if not, it has no value.
    strict: bool = True


@dataclass(frozen=True)
class Task:
    """All that is done with one degraded picture: it is made once."""

    source: Source
    degradation: Chain | None
    seed: int
    works: tuple[Work, ...]

    @property
    def key(self) -> str:
        """Names the task for schedulers."""
        return f"task-{self.works[0].cell.key}-{len(self.works)}"


#: The number of a reference, the chain that degrades it, and its cells with their treatments.
Group = tuple[int, Chain | None, list[tuple[Cell, Chain | None]]]


class Job(Protocol):
    """What a run carries out."""

    @property
    def sources(self) -> list[Source]:
        """The references."""
        ...

    @property
    def metrics(self) -> tuple[str, ...]:
        """Canonical texts of the metrics of every row."""
        ...

    @property
    def gauges(self) -> tuple[str, ...]:
        """Canonical texts of the gauges of every row."""
        ...

    @property
    def keep(self) -> Keep:
        """Which pictures are kept, and by which metric."""
        ...

    @property
    def strict(self) -> bool:
        """Whether a metric that the pictures do not suit is a failure."""
        ...

    def groups(self, facts: list[Facts]) -> Iterator[Group]:
        """All degraded pictures with their cells, in the order of the table."""
        ...


@dataclass(frozen=True)
class PlanJob:
    """A plan, its files found."""

    plan: Plan
    sources: list[Source]

    @classmethod
    def of(cls, plan: Plan, base: Path) -> PlanJob:
        """A plan whose paths are relative to a folder."""
        return cls(plan, sources_of(plan, reference_files(plan, base)))

    @property
    def metrics(self) -> tuple[str, ...]:
        return labels_of(self.plan.scores.metrics, "metric")

    @property
    def gauges(self) -> tuple[str, ...]:
        return labels_of(self.plan.scores.gauges, "gauge")

    @property
    def keep(self) -> Keep:
        return self.plan.keep

    @property
    def strict(self) -> bool:
        return self.plan.scores.metrics != ALL

    def groups(self, facts: list[Facts]) -> Iterator[Group]:
        return cells_of(self.plan, facts)


def labels_of(text: str, kind: str) -> tuple[str, ...]:
    """Canonical texts of a list of metrics or gauges; none of an empty one."""
    return tuple(str(step) for step in parse_figures(text, kind)) if text else ()


def sources_of(plan: Plan, files: list[Path]) -> list[Source]:
    """The references of a plan."""
    return [Source(str(path.resolve()), plan.references.convert) for path in files]


def cells_of(plan: Plan, facts: list[Facts]) -> Iterator[Group]:
    """The number of the reference, the chain and the cells of every degraded picture.

    A chain that draws no random numbers gives one picture whatever the seed: it is repeated only
    where it draws.
    """
    treatments = plan.chains("treatments")
    for number, reference in enumerate(facts):
        for degradation_name, chains in plan.chains("degradations").items():
            for chain in chains:
                draws = _draws(chain)
                for repeat in range(plan.repeats if draws else 1):
                    seed = plan.seed + repeat if draws else 0
                    cells = [
                        (
                            Cell(
                                reference.name, reference.digest, degradation_name,
                                label(chain), repeat, seed, name, label(treatment),
                                _files_of(chain, treatment),
                            ),
                            treatment,
                        )
                        for name, options in treatments.items()
                        if plan.together(degradation_name, name)
                        for treatment in options
                    ]  # fmt: skip
                    if cells:
                        yield number, chain, cells


def label(chain: Chain | None) -> str:
    """Canonical text of a chain."""
    return NOTHING if chain is None else str(chain)


def _files_of(*chains: Chain | None) -> str:
    """Digest of the contents of all files that chains name; empty where there are none."""
    names = [name for chain in chains if chain is not None for name in chain.files]
    return "".join(_digest_of(name) for name in names)


def _digest_of(name: str) -> str:
    try:
        return hashlib.sha256(Path(name).read_bytes()).hexdigest()
    except OSError:  # the row will fail, and say so
        return "missing"


def _draws(chain: Chain | None) -> bool:
    return chain is not None and any("rng" in step.method.inputs for step in chain.steps)
