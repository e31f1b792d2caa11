"""Rate-distortion curves as a run: every point is a row of a ledger."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from magnetite.core.chain.step import Chain, Step
from magnetite.core.curves.points import CurveCodec, Point, sweep_steps
from magnetite.core.curves.study import CurvePoint, Curves
from magnetite.core.errors import MagnetiteError
from magnetite.core.operations.aim import Target
from magnetite.core.operations.selection import NONE, Selection
from magnetite.experiment.executors import Executor
from magnetite.experiment.ledger import Ledger
from magnetite.experiment.plan import NOTHING, Keep
from magnetite.experiment.runner import Listener, run
from magnetite.experiment.tasks import Cell, Group, Reference, Source, makers_of_both
from magnetite.experiment.work import reference_of
from magnetite.files.resources import DiskFiles


@dataclass(frozen=True)
class CurveJob:
    """Codecs with their sweeps on references; nothing is done to these before."""

    sources: list[Source]
    codecs: tuple[CurveCodec, ...]
    metrics: Selection
    gauges: Selection = NONE
    keep: Keep = field(default_factory=Keep)
    base: str = ""
    #: Metrics with scores that automatic points are to reach.
    targets: tuple[Target, ...] = ()
    #: Steps of each codec on each reference, by its name and the digest.
    steps: dict[tuple[str, str], list[Step]] = field(default_factory=dict, init=False)

    def groups(self, references: Sequence[Reference]) -> Iterator[Group]:
        files = DiskFiles(self.base)
        for number, reference in enumerate(references):
            digest = reference.facts.digest
            cells: list[tuple[Cell, Chain | None]] = []
            for codec, swept in enumerate(self.codecs):
                for step in self._steps_of(swept, reference.source, digest):
                    chain = Chain((step,))
                    cell = Cell(
                        str(number), digest, NOTHING, NOTHING, 0, 0, str(codec), str(step),
                        makers_of_both(None, chain, files),
                    )  # fmt: skip
                    cells.append((cell, chain))
            yield reference, None, cells

    def _steps_of(self, codec: CurveCodec, source: Source, digest: str) -> list[Step]:
        """The steps of a codec's sweep; where none is given they follow from the picture."""
        if (codec.name, digest) not in self.steps:
            picture = reference_of(source, digest)
            self.steps[codec.name, digest] = sweep_steps(codec, picture, self.targets)
        return self.steps[codec.name, digest]


def curves_of(
    job: CurveJob,
    names: list[str],
    folder: Path,
    executor: Executor,
    listener: Listener | None = None,
) -> tuple[Curves, tuple[str, ...]]:
    """The curves of a job, whose points are kept in a folder, and notes on them.

    Raises
    ------
    MagnetiteError
        If a point cannot be computed.
    """
    codecs = tuple(one.name for one in job.codecs)
    outcome = run(job, "; ".join(codecs), folder, executor, listener)
    ledger = Ledger(folder, writable=False)
    try:
        columns = ledger.columns()
        rows = [dict(zip(columns, row, strict=True)) for row in ledger.rows()]
    finally:
        ledger.close()
    for row in rows:
        if row["reason"] is not None:
            raise MagnetiteError(f"{row['treatment']}: {row['reason']}")
    steps = {str(step): step for own in job.steps.values() for step in own}
    results = [
        CurvePoint(
            int(str(row["reference"])), int(str(row["treatment name"])),
            Point(steps[str(row["treatment"])], _number(row["bpp"]), int(_number(row["bytes"])),
                  {metric: _number(row[metric]) for metric in job.metrics.labels
                   if row[metric] is not None}),
        )
        for row in rows
    ]  # fmt: skip
    results.sort(key=lambda r: (r.reference, r.codec, r.point.bpp))
    activity = {int(str(row["reference"])): row["reference activity"] for row in rows}
    known = tuple(None if activity[k] is None else _number(activity[k]) for k in range(len(names)))
    made = Curves(tuple(results), tuple(names), codecs, job.metrics, known, outcome.reused)
    return made, outcome.notes


def _number(value: object) -> float:
    return value if isinstance(value, float | int) else math.nan
