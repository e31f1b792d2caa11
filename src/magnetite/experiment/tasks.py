"""Tasks of a plan: plain data that any process can carry out."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from magnetite.core.chain.step import Chain, Step
from magnetite.core.operations.convert import convert
from magnetite.core.operations.selection import Selection
from magnetite.core.picture import Picture
from magnetite.experiment.own_code import digest_of_code
from magnetite.experiment.plan import NOTHING, Keep, Plan
from magnetite.experiment.plan_files import reference_files
from magnetite.external.declarations import contents
from magnetite.files.names import shown
from magnetite.files.resources import DiskFiles


@dataclass(frozen=True)
class Source:
    """A reference picture: its file, and how it is taken from there."""

    path: str
    convert: Chain | None = None
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
    """Facts of a reference, before any degradation."""

    name: str
    digest: str
    width: int
    height: int
    channels: int
    bits: int | None
    activity: float | None


@dataclass(frozen=True)
class Cell:
    """One treated picture: its position in the plan, and its identity, which is its key."""

    reference: str
    digest: str
    degradation_name: str
    degradation: str
    repeat: int
    seed: int
    treatment_name: str
    treatment: str
    #: Versions of the methods, and digests of the files and of the user's own commands that the
    #: chains name.
    makers: str = ""

    @property
    def key(self) -> str:
        """Follows from content alone: samples, chains, seed, makers."""
        parts = self.digest, self.degradation, str(self.seed), self.treatment, self.makers
        return hashlib.sha256("\0".join(parts).encode()).hexdigest()[:32]


@dataclass(frozen=True)
class Work:
    """One treatment of a task: the cell, its chain, and which figures are still wanted."""

    cell: Cell
    treatment: Chain | None
    metrics: Selection
    gauges: Selection
    keep: bool = False


@dataclass(frozen=True)
class Task:
    """All that is done with one degraded picture: it is made once."""

    source: Source
    degradation: Chain | None
    seed: int
    works: tuple[Work, ...]
    #: Folder that names of files in settings are relative to.
    base: str = ""

    @property
    def key(self) -> str:
        """Names the task for schedulers."""
        return f"task-{self.works[0].cell.key}-{len(self.works)}"


@dataclass(frozen=True)
class Reference:
    """A clean picture of a run: its file and its content."""

    source: Source
    facts: Facts


#: A reference, the chain that degrades it, and its cells with their treatments.
Group = tuple[Reference, Chain | None, list[tuple[Cell, Chain | None]]]


class Job(Protocol):
    """All tasks of a run."""

    @property
    def sources(self) -> list[Source]:
        """The references."""
        ...

    @property
    def metrics(self) -> Selection:
        """The metrics of every row."""
        ...

    @property
    def gauges(self) -> Selection:
        """The gauges of every row."""
        ...

    @property
    def keep(self) -> Keep:
        """Which pictures are kept, and by which metric."""
        ...

    @property
    def base(self) -> str:
        """Folder that names of files in settings are relative to."""
        ...

    def groups(self, references: Sequence[Reference]) -> Iterator[Group]:
        """All degraded pictures with their cells, in the order of the table."""
        ...


@dataclass(frozen=True)
class PlanJob:
    """A plan, its files found."""

    plan: Plan
    sources: list[Source]
    base: str = ""

    @classmethod
    def of(cls, plan: Plan, base: Path) -> PlanJob:
        """A plan whose paths are relative to a folder."""
        base = (base / plan.base).resolve()
        return cls(plan, sources_of(plan, reference_files(plan, base)), str(base))

    @property
    def metrics(self) -> Selection:
        return self.plan.scores.metrics

    @property
    def gauges(self) -> Selection:
        return self.plan.scores.gauges

    @property
    def keep(self) -> Keep:
        return self.plan.keep

    def groups(self, references: Sequence[Reference]) -> Iterator[Group]:
        return cells_of(self.plan, references, DiskFiles(self.base))


def sources_of(plan: Plan, files: list[Path]) -> list[Source]:
    """The references of a plan."""
    return [Source(str(path.resolve()), plan.references.convert) for path in files]


def cells_of(plan: Plan, references: Sequence[Reference], files: DiskFiles) -> Iterator[Group]:
    """The reference, the chain and the cells of every degraded picture.

    A chain that draws no random numbers gives one picture whatever the seed: it is repeated only
    where it draws.
    """
    treatments = {
        name: [(chain, makers_of(chain, files)) for chain in chains]
        for name, chains in plan.chains("treatments").items()
    }
    degradations = {
        name: [(chain, makers_of(chain, files)) for chain in chains]
        for name, chains in plan.chains("degradations").items()
    }
    for reference in references:
        for degradation_name, chains in degradations.items():
            for chain, makers in chains:
                draws = chain is not None and chain.draws
                for repeat in range(plan.repeats if draws else 1):
                    seed = plan.seed + repeat if draws else 0
                    cells = [
                        (
                            Cell(
                                reference.facts.name, reference.facts.digest, degradation_name,
                                label(chain), repeat, seed, name, label(treatment),
                                f"{makers} > {own}",
                            ),
                            treatment,
                        )
                        for name, options in treatments.items()
                        if plan.together(degradation_name, name)
                        for treatment, own in options
                    ]  # fmt: skip
                    if cells:
                        yield reference, chain, cells


def label(chain: Chain | None) -> str:
    """Canonical text of a chain."""
    return NOTHING if chain is None else str(chain)


def makers_of_both(degradation: Chain | None, treatment: Chain | None, files: DiskFiles) -> str:
    """The makers of a cell."""
    return f"{makers_of(degradation, files)} > {makers_of(treatment, files)}"


def makers_of(chain: Chain | Step | None, files: DiskFiles) -> str:
    """All that the results of a chain depend on besides its settings.

    For each step the version of its method, and the digests of the files that it names and of the
    user's own code or command; `0` for no step.
    """
    if chain is None:
        return "0"
    steps = chain.steps if isinstance(chain, Chain) else (chain,)
    return "+".join(
        ":".join(filter(None, [version_of(step, files), contents.get((step.kind, step.name))]))
        for step in steps
    )


def version_of(step: Step, files: DiskFiles) -> str:
    """Version of a step's method and library, digests of files that it names and of own code."""
    parts = [str(step.method.version), *map(files.digest, step.files), digest_of_code(step.method)]
    return ":".join(filter(None, [*parts, library_of(step)]))


def libraries_of(chains: Iterable[Chain | None]) -> dict[str, str]:
    """Libraries behind the yardsticks of chains, by the codec's name."""
    steps = [step for chain in chains if chain is not None for step in chain.steps]
    return {step.name: library for step in steps if (library := library_of(step))}


def library_of(step: Step) -> str:
    """Name and version of the library behind a codec; empty where there is none."""
    if step.kind != "codec":
        return ""
    from magnetite.core.codecs import yardsticks

    return yardsticks.library_of(step)


def chains_of(job: Job, references: Sequence[Reference]) -> Iterator[Chain | None]:
    """The chains of a job on its first reference."""
    for _, degradation, cells in job.groups(references[:1]):
        yield degradation
        yield from (treatment for _, treatment in cells)
