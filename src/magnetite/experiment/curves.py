"""Rate-distortion curves as a run: every point is a row of a ledger."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path

from magnetite.core.chain.notation import parse_chain
from magnetite.core.chain.step import Chain
from magnetite.core.curves.points import Point, sweep_steps
from magnetite.core.curves.study import CurvePoint, Curves
from magnetite.core.errors import MagnetiteError
from magnetite.experiment.executors import Executor
from magnetite.experiment.ledger import Ledger
from magnetite.experiment.plan import NOTHING, Keep
from magnetite.experiment.runner import Listener, run
from magnetite.experiment.tasks import Cell, Group, Reference, Source, digest_of
from magnetite.experiment.work import reference_of
from magnetite.files.resources import DiskFiles


@dataclass(frozen=True)
class CurveJob:
    """Codecs with their sweeps on references; nothing is done to these before."""

    sources: list[Source]
    codecs: tuple[str, ...]
    metrics: tuple[str, ...]
    gauges: tuple[str, ...] = ()
    keep: Keep = field(default_factory=Keep)
    strict: bool = True

    base: str = ""
    #: Metrics with scores that automatic points are to reach.
    targets: tuple[tuple[str, float], ...] = ()

    def groups(self, references: Sequence[Reference]) -> Iterator[Group]:
        files = DiskFiles(self.base)
        for number, reference in enumerate(references):
            digest = reference.facts.digest
            cells: list[tuple[Cell, Chain | None]] = []
            for codec, text in enumerate(self.codecs):
                for step in _steps(text, reference.source, digest, self.targets):
                    chain = parse_chain(step, "codec")
                    cell = Cell(str(number), digest, NOTHING, NOTHING, 0, 0, str(codec), step,
                                digest_of(chain, files))  # fmt: skip
                    cells.append((cell, chain))
            yield reference, None, cells


@lru_cache(maxsize=1024)
def _steps(
    codec: str, source: Source, digest: str, targets: tuple[tuple[str, float], ...]
) -> list[str]:
    """The steps of a codec's sweep; where none is given they follow from the picture."""
    return sweep_steps(codec, reference_of(source, digest), targets)


def curves_of(
    job: CurveJob,
    names: list[str],
    folder: Path,
    executor: Executor,
    listener: Listener | None = None,
) -> Curves:
    """The curves of a job, whose points are kept in a folder.

    Raises
    ------
    MagnetiteError
        If a point cannot be computed.
    """
    outcome = run(job, "; ".join(job.codecs), folder, executor, listener)
    ledger = Ledger(folder, writable=False)
    try:
        columns = ledger.columns()
        rows = [dict(zip(columns, row, strict=True)) for row in ledger.rows()]
    finally:
        ledger.close()
    for row in rows:
        if row["reason"] is not None:
            raise MagnetiteError(f"{row['treatment']}: {row['reason']}")
    results = [
        CurvePoint(
            int(str(row["reference"])), int(str(row["treatment name"])),
            Point(str(row["treatment"]), _number(row["bpp"]), int(_number(row["bytes"])),
                  {metric: _number(row[metric]) for metric in job.metrics}),
        )
        for row in rows
    ]  # fmt: skip
    results.sort(key=lambda r: (r.reference, r.codec, r.point.bpp))
    activity = {int(str(row["reference"])): row["activity"] for row in rows}
    known = tuple(None if activity[k] is None else _number(activity[k]) for k in range(len(names)))
    return Curves(tuple(results), tuple(names), job.codecs, job.metrics, known, outcome.reused)


def _number(value: object) -> float:
    return value if isinstance(value, float | int) else math.nan
