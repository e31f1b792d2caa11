"""The points that `magnetite curve` draws: worked out side by side, kept as they come."""

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
        note(f"{taken} of {len(jobs)} points taken from {kept.path}; remove it to begin anew")
    with progress("curve", len(jobs)) as advance:

        def work(job: tuple[int, int, str]) -> Result:
            reference, codec, step = job
            made = kept.find(reference, step)
            if made is None:
                picture = pictures[reference]
                made = point(picture, step, ",".join(kept.metrics), picture)
            result = Result(reference, codec, made)
            kept.add(result)
            advance(f"{paths[reference].name}: {step}")
            return result

        with ThreadPoolExecutor(workers) as pool:
            results = list(pool.map(work, jobs))
    results = sorted(results, key=lambda r: (r.reference, r.codec, r.point.bpp))
    kept.finish(results)
    return results


class Kept:
    """`points.csv`: what is in it, and what is added, whole at any moment.

    A point counts as known where the samples of its picture, its step, the metrics and the
    version of this program are the same.
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
        self.titles = ["reference", "picture", "activity dn", "codec", "bpp", "bytes", *metrics]
        self._known = self._read()
        self._results: list[Result] = []
        self._lock = Lock()

    def find(self, reference: int, step: str) -> Point | None:
        """A point that was worked out before."""
        return self._known.get((self._marks[reference], step))

    def add(self, result: Result) -> None:
        """Write a point to the file, beside those before it."""
        with self._lock:
            self._results.append(result)
            self._write(self._results)

    def finish(self, results: list[Result]) -> None:
        """Write all points in their order."""
        self._write(results)

    def _write(self, results: list[Result]) -> None:
        from magnetite.files.atomic import write_bytes

        if self.path is None:
            return
        write_bytes(self.path, csv_text(self.titles, self.rows(results)).encode())

    def rows(self, results: list[Result]) -> list[list[Cell]]:
        """The lines of the file."""
        return [self._row(r.reference, r.point) for r in results]

    def _row(self, reference: int, point: Point) -> list[Cell]:
        head = [str(self._paths[reference]), self._marks[reference], self._activity[reference]]
        return [*head, point.step, point.bpp, point.bytes, *point.scores.values()]

    def _read(self) -> dict[tuple[str, str], Point]:
        from magnetite.core.sweeps import Point

        if self.path is None or not self.path.is_file():
            return {}
        lines = list(csv.reader(io.StringIO(self.path.read_text())))
        if not lines or lines[0] != self.titles:
            return {}
        known = {}
        for line in lines[1:]:
            _, mark, _, step, bpp, count, *scores = line
            values = dict(zip(self.metrics, map(float, scores), strict=True))
            known[mark, step] = Point(step, float(bpp), int(count), values)
        return known
