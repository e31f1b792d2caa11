"""`points.csv`: points of rate-distortion curves, kept as they come."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from pathlib import Path
from threading import Lock

from magnetite.core.curves.points import Point
from magnetite.core.curves.study import activity_of
from magnetite.core.picture import Picture
from magnetite.files.atomic import append_text
from magnetite.files.reading import read_text
from magnetite.files.tables import Cell, csv_text

TITLES = ("reference", "picture", "activity dn", "codec", "bpp", "bytes", "metric", "score")


class KeptPoints:
    """A line for each score, only ever added to, by any number of programs.

    A point counts as known where the samples of its picture, its step and the version of this
    program are the same, and every metric has a line. Lines that cannot be read are left out, and
    counted in `damaged`.

    Parameters
    ----------
    path : Path
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.damaged = 0
        self._heads: dict[int, list[Cell]] = {}
        self._known = self._read()
        self._lock = Lock()

    def find(self, reference: Picture, step: str, metrics: Sequence[str]) -> Point | None:
        """A point that was computed before."""
        mark = self._head(reference)[1]
        lines = [self._known.get((mark, step, m)) for m in metrics]
        known = [line for line in lines if line is not None]
        if len(known) < len(lines):
            return None
        scores = {metric: line[2] for metric, line in zip(metrics, known, strict=True)}
        return Point(step, known[0][0], known[0][1], scores)

    def add(self, reference: Picture, point: Point) -> None:
        """Write a point's lines behind those that are there."""
        lines: list[list[Cell]] = [
            [*self._head(reference), point.step, point.bpp, point.bytes, metric, score]
            for metric, score in point.scores.items()
        ]
        with self._lock:
            append_text(self.path, csv_text(None, lines), csv_text(TITLES, []))

    def _head(self, picture: Picture) -> list[Cell]:
        """What a line says of its picture: name, content and program, activity."""
        from magnetite import __version__

        if id(picture) not in self._heads:
            mark = f"{picture.digest().hex()[:16]} {__version__}"
            self._heads[id(picture)] = [picture.origin, mark, activity_of(picture)]
        return self._heads[id(picture)]

    def _read(self) -> dict[tuple[Cell, str, str], tuple[float, int, float]]:
        """Rate, bytes and score by picture, step and metric."""
        if not self.path.is_file() or not self.path.stat().st_size:
            return {}
        known: dict[tuple[Cell, str, str], tuple[float, int, float]] = {}
        for line in csv.reader(io.StringIO(read_text(self.path))):
            if tuple(line) == TITLES:
                continue
            try:
                _, mark, _, step, bpp, count, metric, score = line
                known[mark, step, metric] = float(bpp), int(count), float(score)
            except ValueError:
                self.damaged += 1
        return known
