"""The points that `magnetite curve` draws: computed side by side, kept as they come."""

from __future__ import annotations

import csv
import io
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from threading import Lock
from typing import TYPE_CHECKING

from magnetite.cli.options import note
from magnetite.cli.output import Cell, csv_text
from magnetite.cli.progress import progress

if TYPE_CHECKING:
    from magnetite.core.picture import Picture
    from magnetite.core.sweeps import Point

TITLES = ("reference", "picture", "activity dn", "codec", "bpp", "bytes", "metric", "score")


@dataclass(frozen=True)
class Result:
    """A point with the places of its reference and codec in the lists that were given."""

    reference: int
    codec: int
    point: Point


def measured(
    paths: list[Path], pictures: list[Picture], codecs: list[str], kept: Kept, workers: int
) -> list[Result]:
    """All points, by reference, codec and rate; those that were kept are taken."""
    from magnetite.core.sweeps import point, sweep_steps

    jobs = [
        (reference, codec, step)
        for reference, picture in enumerate(pictures)
        for codec, text in enumerate(codecs)
        for step in sweep_steps(text, picture)
    ]
    taken = sum(kept.find(reference, step) is not None for reference, _, step in jobs)
    if taken:
        note(f"{taken} of {len(jobs)} points taken from {kept.path}; remove it to start over")
    with progress("curve", len(jobs)) as advance:

        def work(job: tuple[int, int, str]) -> Result:
            reference, codec, step = job
            made = kept.find(reference, step)
            if made is None:
                picture = pictures[reference]
                made = point(picture, step, ",".join(kept.metrics), picture)
                kept.add(reference, made)
            advance(f"{paths[reference].name}: {step}")
            return Result(reference, codec, made)

        with ThreadPoolExecutor(workers) as pool:
            try:
                results = list(pool.map(work, jobs))
            except BaseException:
                pool.shutdown(cancel_futures=True)
                raise
    return sorted(results, key=lambda r: (r.reference, r.codec, r.point.bpp))


class Kept:
    """`points.csv`: a line for each score, only ever added to, by any number of programs.

    A point counts as known where the samples of its picture, its step and the version of this
    program are the same, and every metric has a line. Lines that cannot be read are left out.
    """

    def __init__(
        self,
        path: Path | None,
        paths: list[Path],
        pictures: list[Picture],
        activity: list[float | None],
        metrics: list[str],
    ) -> None:
        from magnetite import __version__

        self.path, self._paths, self._activity, self.metrics = path, paths, activity, metrics
        self._marks = [f"{picture.digest().hex()[:16]} {__version__}" for picture in pictures]
        self._known = self._read()
        self._lock = Lock()

    def find(self, reference: int, step: str) -> Point | None:
        """A point that was computed before."""
        from magnetite.core.sweeps import Point

        lines = [self._known.get((self._marks[reference], step, m)) for m in self.metrics]
        known = [line for line in lines if line is not None]
        if len(known) < len(lines):
            return None
        scores = {metric: line[2] for metric, line in zip(self.metrics, known, strict=True)}
        return Point(step, known[0][0], known[0][1], scores)

    def add(self, reference: int, point: Point) -> None:
        """Write a point's lines behind those that are there."""
        from magnetite.files.atomic import append_text

        if self.path is None:
            return
        head = [str(self._paths[reference]), self._marks[reference], self._activity[reference]]
        lines: list[list[Cell]] = [
            [*head, point.step, point.bpp, point.bytes, metric, score]
            for metric, score in point.scores.items()
        ]
        with self._lock:
            append_text(self.path, csv_text(None, lines), csv_text(TITLES, []))

    def _read(self) -> dict[tuple[str, str, str], tuple[float, int, float]]:
        """Rate, bytes and score by picture, step and metric."""
        from magnetite.files.reading import read_text

        if self.path is None or not self.path.is_file() or not self.path.stat().st_size:
            return {}
        known = {}
        damaged = 0
        for line in csv.reader(io.StringIO(read_text(self.path))):
            if tuple(line) == TITLES:
                continue
            try:
                _, mark, _, step, bpp, count, metric, score = line
                known[mark, step, metric] = float(bpp), int(count), float(score)
            except ValueError:
                damaged += 1
        if damaged:
            note(f"{self.path}: {damaged} damaged lines are left out; their points are computed")
        return known
