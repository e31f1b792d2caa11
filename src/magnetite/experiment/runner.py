"""Carry out a plan: find the missing rows, compute them, write each to the ledger."""

from __future__ import annotations

import hashlib
import json
import os
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from itertools import takewhile
from pathlib import Path

from magnetite import __version__
from magnetite.core.chain.step import Chain
from magnetite.core.errors import FileError, InputError
from magnetite.core.operations.selection import NONE
from magnetite.core.quantities import counted
from magnetite.experiment.depths import unlike_depths_of
from magnetite.experiment.executors import Executor
from magnetite.experiment.export import export, exported
from magnetite.experiment.ledger import COLUMNS, Ledger
from magnetite.experiment.provenance import machine, now, sources_text
from magnetite.experiment.retrying import completed
from magnetite.experiment.tasks import (
    Cell,
    Job,
    Reference,
    Source,
    Task,
    Work,
    chains_of,
    libraries_of,
    makers_of,
)
from magnetite.experiment.work import Done, facts_of
from magnetite.files.atomic import inside, make_folder, remove_temporary, write_bytes
from magnetite.files.names import apart
from magnetite.files.resources import DiskFiles

#: Results are written together after this time, s, or this many.
_PATIENCE, _BATCH = 0.5, 400
PICTURES = "pictures"
#: Callback: cells done, all cells, cells that failed.
Listener = Callable[[int, int, int], None]


@dataclass(frozen=True)
class Outcome:
    """Result of a run."""

    folder: Path
    cells: int
    #: Computed now, and taken from before.
    computed: int
    reused: int
    failed: int
    seconds: float
    #: Remarks, such as references that are the same picture.
    notes: tuple[str, ...] = ()


def run(
    job: Job, text: str, folder: Path, executor: Executor, listener: Listener | None = None
) -> Outcome:
    """Carry out a job in a folder, or the rows of it that are missing.

    Parameters
    ----------
    job : Job
    text : str
        The job as it was written, kept with the results.
    folder : Path
        Of the run; an earlier run in it is resumed.
    executor : Executor
    listener : callback, optional
        Progress callback.

    Raises
    ------
    FileError
        If the folder cannot be written, or another run works in it.
    """
    start = time.perf_counter()
    make_folder(folder)
    with _lock(folder):
        remove_temporary(folder, inside(folder, PICTURES))
        ledger = Ledger(folder)
        try:
            one = _Run(job, folder, ledger, executor, listener or (lambda *_: None))
            return one.go(text, start)
        finally:
            ledger.close()


@contextmanager
def _lock(folder: Path) -> Iterator[None]:
    """Keep other runs out of a folder; the system lifts the lock of a process that dies."""
    from filelock import FileLock, Timeout

    lock = FileLock(inside(folder, "run.lock"))
    try:
        lock.acquire(blocking=False)
    except Timeout:
        raise FileError(f"{folder}: another run works in this folder; wait for its end") from None
    except OSError as error:
        raise FileError(f"{folder}: cannot be written ({error.strerror})") from None
    try:
        yield
    finally:
        lock.release()


class _Run:
    """One pass over a job."""

    def __init__(
        self, job: Job, folder: Path, ledger: Ledger, executor: Executor, listener: Listener
    ) -> None:
        self._job, self._folder, self._ledger = job, folder, ledger
        self._executor, self._listener = executor, listener
        self._exports = exported(folder)
        self._pending: list[tuple[Cell, Done, tuple[str, ...], str | None]] = []
        self._flushed = time.perf_counter()
        self._computed = self._failed = self._reused = self._total = 0
        self._notes: list[str] = []
        #: Why figures are missing in some rows, by metric or gauge.
        self._reasons: dict[str, str] = {}
        steps, files = [*job.metrics, *job.gauges], DiskFiles(job.base)
        self._figures = tuple(map(str, steps))
        if taken := [label for label in self._figures if label in (*COLUMNS, "label")]:
            raise InputError(
                f"a column of every run is called {taken[0]!r}: declare the figure under another "
                "name"
            )
        #: Versions of the figures, with digests of the files that they name.
        self._makers = {str(step): makers_of(step, files) for step in steps}

    def go(self, text: str, start: float) -> Outcome:
        self._ledger.describe(plan=text, version=__version__, figures="\n".join(self._figures))
        references, self._notes = distinct(self._job.sources)
        self._ledger.describe(
            sources=sources_text(references, self._folder),
            base=os.path.relpath(self._job.base or ".", self._folder),
            machine=json.dumps(machine()), started=now(), makers=json.dumps(self._makers),
            libraries=json.dumps(libraries_of(chains_of(self._job, references))),
        )  # fmt: skip
        cells = (cell for _, _, own in self._job.groups(references) for cell, _ in own)
        self._total = self._ledger.expect((one.facts for one in references), cells)
        self._notes += [
            f"computed again: {counted(count, 'figure')} of {label}, made by another version of it "
            "or with other files"
            for label, count in self._ledger.outdated().items()
        ]
        try:
            for task, results in completed(self._executor, self._tasks(references)):
                self._take(task, results)
            self._flush()
            self._keep_some(references)
        except BaseException:
            self._executor.stop()
            self._flush()
            raise
        self._executor.stop()
        export(self._ledger, self._exports)
        _, _, failed = self._ledger.counts()
        seconds = time.perf_counter() - start
        if self._computed:
            self._ledger.describe(finished=now(), seconds=f"{seconds:.1f}")
        self._notes += [*self._missing(), *unlike_depths_of(self._job, references)]
        counts = self._total, self._computed, self._reused, failed
        return Outcome(self._folder, *counts, seconds, tuple(self._notes))

    def _missing(self) -> Iterator[str]:
        """Notes on figures that were asked for by name and that rows lack."""
        named = [one for one in (self._job.metrics, self._job.gauges) if not one.every]
        labels = {label for one in named for label in one.labels}
        for label, count in self._ledger.missing().items():
            if label in labels:
                reason = self._reasons.get(label, f"{label} does not suit their pictures")
                yield f"{counted(count, 'figure')} of {label} missing: {reason}"

    def _tasks(self, references: Sequence[Reference]) -> Iterator[Task]:
        """The missing rows, degraded picture by degraded picture."""
        keeps = self._job.keep.pictures == "all"
        given: set[str] = set()
        for reference, degradation, cells in self._job.groups(references):
            known = self._ledger.known([cell.key for cell, _ in cells], self._makers)
            works = []
            for cell, treatment in cells:
                have, picture = known.get(cell.key, (set(), None))
                kept = not keeps or self._is_kept(picture)
                done = cell.key in known and set(self._figures) <= have and kept
                if done or cell.key in given:
                    self._reused += 1
                    continue
                given.add(cell.key)
                works.append(self._work(cell, treatment, have, keeps))
            self._listener(self._computed + self._reused, self._total, self._failed)
            for part in _parts(works) if degradation is None else [works] if works else []:
                yield self._task(reference, degradation, part)

    def _is_kept(self, picture: str | None) -> bool:
        return picture is not None and inside(self._folder, picture).is_file()

    def _task(self, reference: Reference, degradation: Chain | None, works: list[Work]) -> Task:
        seed = works[0].cell.seed
        return Task(reference.source, degradation, seed, tuple(works), self._job.base)

    def _work(self, cell: Cell, treatment: Chain | None, have: set[str], keep: bool) -> Work:
        metrics, gauges = self._job.metrics.without(have), self._job.gauges.without(have)
        return Work(cell, treatment, metrics, gauges, keep)

    def _take(self, task: Task, results: list[Done]) -> None:
        """Note results; their pictures are written before the ledger speaks of them."""
        for work, done in zip(task.works, results, strict=True):
            name = self._stored(work.cell, done)
            figures = (*work.metrics.labels, *work.gauges.labels)
            self._pending.append((work.cell, done, figures, name))
            self._computed += 1
            self._failed += done.reason is not None
            self._reasons = done.left_out | self._reasons
        late = time.perf_counter() - self._flushed > _PATIENCE
        if late or len(self._pending) >= _BATCH:
            self._flush()
        self._listener(self._computed + self._reused, self._total, self._failed)

    def _stored(self, cell: Cell, done: Done) -> str | None:
        """Name of the file that a kept picture was written to, within the folder."""
        if done.picture is None:
            return None
        name = f"{PICTURES}/{cell.key}{done.ending}"
        make_folder(inside(self._folder, PICTURES))
        write_bytes(inside(self._folder, name), done.picture)
        return name

    def _flush(self) -> None:
        if self._pending:
            self._ledger.add(self._pending, self._makers)
            self._pending = []
        self._flushed = time.perf_counter()

    def _keep_some(self, references: Sequence[Reference]) -> None:
        """Make the pictures that are known to be wanted only at the end: worst, best, a sample.

        A picture that cannot be made leaves its row as it is, with a note.
        """
        rule, _, number = self._job.keep.pictures.partition(" ")
        if not number:
            return
        wanted = self._chosen(rule, int(number))
        tasks = []
        for reference, degradation, cells in self._job.groups(references):
            known = self._ledger.known([cell.key for cell, _ in cells], self._makers)
            works = [
                Work(cell, treatment, NONE, NONE, True)
                for cell, treatment in cells
                if cell.key in wanted and cell.key in known
                and not self._is_kept(known[cell.key][1])
            ]  # fmt: skip
            if works:
                tasks.append(self._task(reference, degradation, works))
        for task, results in completed(self._executor, iter(tasks)):
            for work, done in zip(task.works, results, strict=True):
                if done.reason is not None:
                    self._notes.append(
                        f"the picture of {work.cell.reference}, {work.cell.treatment} is not "
                        f"kept: {done.reason}"
                    )
                    continue
                self._pending.append((work.cell, done, (), self._stored(work.cell, done)))
        self._flush()

    def _chosen(self, rule: str, number: int) -> set[str]:
        """Keys of the cells whose pictures are kept."""
        values = self._ledger.values(str(self._job.keep.by))
        if rule == "sample":
            order = sorted(values, key=lambda key: hashlib.sha256(key.encode()).digest())
        else:
            from magnetite.core.methods.declarations import Metric

            higher = self._job.keep.by.declared(Metric).better == "higher"
            first_high = higher == (rule == "best")
            order = sorted(values, key=lambda key: (values[key], key), reverse=first_high)
        return set(order[:number])


def distinct(sources: Sequence[Source]) -> tuple[list[Reference], list[str]]:
    """References of different content, under names of their own, and notes on equal ones.

    The same samples under a second name would count as a second picture.

    Raises
    ------
    MagnetiteError
        If one cannot be read.
    """
    first: dict[str, Reference] = {}
    notes = []
    for source in sources:
        facts = facts_of(source)
        if facts.digest in first:
            notes.append(
                f"{source.path} holds the same samples as {first[facts.digest].source.path}: "
                "it is left out"
            )
            continue
        first[facts.digest] = Reference(source, facts)
    names = apart([one.source.path for one in first.values()])
    return [
        Reference(one.source, replace(one.facts, name=name))
        for one, name in zip(first.values(), names, strict=True)
    ], notes


def _parts(works: list[Work]) -> list[list[Work]]:
    """Treatments of a picture that nothing was done to: those that begin alike stay together."""
    parts: dict[str, list[Work]] = {}
    for number, work in enumerate(works):
        steps = () if work.treatment is None else work.treatment.steps
        alike = " + ".join(str(s) for s in takewhile(lambda s: s.kind == "restoration", steps))
        parts.setdefault(alike or f"alone {number}", []).append(work)
    return list(parts.values())


def status_of(folder: Path) -> tuple[int, int, int, list[tuple[str, str, str, str]]]:
    """Cells asked for, done and failed of a run, and the failures."""
    ledger = Ledger(folder, writable=False)
    try:
        return *ledger.counts(), ledger.failures()
    finally:
        ledger.close()
