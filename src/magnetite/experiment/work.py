"""Carry out a task: degrade once, treat, score. Runs in any process, without a ledger."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from functools import lru_cache
from threading import get_ident

from magnetite.core.chain.bind import ReadOnce
from magnetite.core.errors import MagnetiteError, PictureError
from magnetite.core.operations.degrade import degrade, degrade_chain
from magnetite.core.operations.measuring import measured
from magnetite.core.operations.score import Scorer
from magnetite.core.operations.treatment import Kept, treat
from magnetite.core.picture import Picture
from magnetite.core.quantities import Quantity
from magnetite.experiment.tasks import Facts, Source, Task, Work
from magnetite.files.resources import DiskFiles

#: References that a process keeps in memory.
_KEPT = 4


@dataclass(frozen=True)
class Done:
    """Result of one treatment: figures and seconds, or the error."""

    key: str
    reason: str | None = None
    #: Bytes of the last codec's file.
    size: int | None = None
    bpp: float | None = None
    #: Figures by metric or gauge; one that does not apply is missing.
    scores: dict[str, float] = field(default_factory=dict)
    seconds: dict[str, float] = field(default_factory=dict)
    #: The treated picture as a PNG or TIFF file, where it is to be kept.
    picture: bytes | None = None
    ending: str = ""
    #: Why figures that were asked for are missing, by metric or gauge.
    left_out: dict[str, str] = field(default_factory=dict)


@lru_cache(maxsize=_KEPT)
def reference_of(source: Source, digest: str) -> Picture:
    """A reference of known content, read once while a process works on it.

    Raises
    ------
    PictureError
        If the file holds another picture now.
    """
    picture = source.load()
    if picture.digest().hex() != digest:
        raise PictureError(f"{source.path}: the file has changed since the run began: run again")
    return picture


@lru_cache(maxsize=_KEPT)
def _cached_scorer(source: Source, digest: str, thread: int) -> Scorer:
    """A reference to score against: one for each thread, since it keeps intermediate results."""
    return Scorer(reference_of(source, digest))


def _scorer_of(task: Task, files: ReadOnce) -> Scorer:
    scorer = _cached_scorer(task.source, task.works[0].cell.digest, get_ident())
    scorer.files = files
    return scorer


def facts_of(source: Source) -> Facts:
    """Facts of a reference, before any degradation."""
    from magnetite.core.curves.study import activity_of

    picture = source.load()
    digest = picture.digest().hex()
    activity = activity_of(picture)
    return Facts(
        source.name, digest, picture.width, picture.height, picture.channels, picture.bits, activity
    )


def perform(task: Task) -> list[Done]:
    """Every treatment of a task; one that fails does not stop the others.

    Restorations that several treatments begin with are done once, and count in the time of each.
    """
    start = time.perf_counter()
    files = ReadOnce(DiskFiles(task.base))
    try:
        reference = reference_of(task.source, task.works[0].cell.digest)
        degraded, known = _degraded(reference, task, files)
    except (MagnetiteError, OSError, MemoryError, ArithmeticError) as error:
        reason = _words(error)
        return [Done(work.cell.key, reason) for work in task.works]
    seconds = time.perf_counter() - start
    kept = Kept()
    return [_treated(work, task, degraded, known, seconds, files, kept) for work in task.works]


def _degraded(reference: Picture, task: Task, files: ReadOnce) -> tuple[Picture, Quantity | None]:
    """The degraded picture, and the sd of its noise where a treatment asks for it."""
    if task.degradation is None:
        return reference, None
    if not any(work.treatment is not None and work.treatment.takes_known for work in task.works):
        return degrade_chain(reference, task.degradation, task.seed, files), None
    made = degrade(reference, task.degradation, seed=task.seed, files=files)
    return made.picture, made.certificate.noise_sd


def _treated(
    work: Work,
    task: Task,
    degraded: Picture,
    known: Quantity | None,
    degrading: float,
    files: ReadOnce,
    kept: Kept,
) -> Done:
    try:
        picture, size, treating = treat(degraded, work.treatment, known, files, kept)
        start = time.perf_counter()
        scores: dict[str, float] = {}
        left_out: dict[str, str] = {}
        if work.metrics.steps:
            found = _scorer_of(task, files).score(picture, work.metrics, strict=False)
            found.check_any()
            scores, left_out = dict(found), found.left_out
        if work.gauges.steps:
            gauged = measured(work.gauges, picture, strict=False, files=files)
            scores, left_out = scores | gauged, left_out | gauged.left_out
    except (MagnetiteError, OSError, MemoryError, ArithmeticError) as error:
        return Done(work.cell.key, _words(error))
    end = time.perf_counter()
    seconds = {"degrade": degrading, "treat": treating, "score": end - start}
    bpp = None if size is None else picture.frame.bpp(size)
    data, ending = _file_of(picture) if work.keep else (None, "")
    return Done(work.cell.key, None, size, bpp, scores, seconds, data, ending, left_out)


def _file_of(picture: Picture) -> tuple[bytes, str]:
    from pathlib import Path

    from magnetite.files.writing import encoded, lossless_ending

    ending = lossless_ending(picture)
    return encoded(picture, Path(f"picture{ending}"))[0], ending


def _words(error: BaseException) -> str:
    return " ".join(str(error).split()) or type(error).__name__
