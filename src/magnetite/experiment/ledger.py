"""The ledger of a run: one SQLite file, written by one process, readable by all.

Tables: `pictures` (references), `cells` (treated pictures, by content), `scores` (figures of
cells), `timings`, `plan` (which cells the present plan asks for, under which names), `facts` of
the run.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from magnetite import __version__
from magnetite.core.errors import FileError
from magnetite.experiment.tasks import Cell, Facts
from magnetite.experiment.work import Done
from magnetite.files.atomic import inside

NAME = "ledger.sqlite"
_SCHEMA = """
CREATE TABLE IF NOT EXISTS pictures (
    digest TEXT PRIMARY KEY, width INTEGER, height INTEGER, channels INTEGER, bits INTEGER,
    activity REAL
);
CREATE TABLE IF NOT EXISTS cells (
    key TEXT PRIMARY KEY, digest TEXT, degradation TEXT, seed INTEGER, treatment TEXT,
    version TEXT, status TEXT, reason TEXT, bytes INTEGER, bpp REAL, picture TEXT
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS scores (
    cell TEXT, metric TEXT, value REAL, makers TEXT, PRIMARY KEY (cell, metric)
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS timings (
    cell TEXT, stage TEXT, seconds REAL, PRIMARY KEY (cell, stage)
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS plan (
    number INTEGER PRIMARY KEY, cell TEXT, reference TEXT, degradation_name TEXT, repeat INTEGER,
    treatment_name TEXT
);
CREATE TABLE IF NOT EXISTS facts (name TEXT PRIMARY KEY, value TEXT) WITHOUT ROWID;
"""


#: Types of values, by table and column.
_KINDS = {
    "pictures": {"digest": "text", "width": "size", "height": "size", "channels": "size",
                 "bits": "size?", "activity": "number?"},
    "cells": {"key": "text", "digest": "text", "degradation": "text", "seed": "count",
              "treatment": "text", "version": "text", "status": "status", "reason": "text?",
              "bytes": "number?", "bpp": "number?", "picture": "text?"},
    "scores": {"cell": "text", "metric": "text", "value": "number?", "makers": "text"},
    "timings": {"cell": "text", "stage": "text", "seconds": "number?"},
    "plan": {"cell": "text", "reference": "text", "degradation_name": "text", "repeat": "count",
             "treatment_name": "text"},
    "facts": {"name": "text", "value": "text"},
}  # fmt: skip
_TESTS = {
    "text": "typeof({0}) = 'text'", "text?": "typeof({0}) IN ('text', 'null')",
    "size": "typeof({0}) = 'integer' AND {0} > 0",
    "size?": "{0} IS NULL OR typeof({0}) = 'integer' AND {0} > 0",
    "count": "typeof({0}) = 'integer' AND {0} >= 0",
    "number?": "typeof({0}) IN ('integer', 'real', 'null')",
    "status": "{0} IN ('done', 'failed')",
}  # fmt: skip


class Ledger:
    """A ledger opened for writing, or for reading alone.

    Raises
    ------
    FileError
        If it cannot be opened, or the disk refuses a write.
    """

    def __init__(self, folder: Path, *, writable: bool = True) -> None:
        self.path, self._writable = inside(folder, NAME), writable
        for ending in ("-wal", "-shm"):
            inside(folder, NAME + ending)
        if not writable and not self.path.is_file():
            raise FileError(f"{folder}: holds no run: it has no {NAME}")
        with self._errors():
            address = f"file:{_quoted(self.path)}?mode={'rwc' if writable else 'ro'}"
            self._base = sqlite3.connect(address, uri=True, isolation_level=None)
            self._base.execute("PRAGMA busy_timeout=10000")
            if writable:
                self._base.execute("PRAGMA journal_mode=WAL")
                self._base.execute("PRAGMA synchronous=NORMAL")
                self._base.executescript(_SCHEMA)
            self._check()

    def _check(self) -> None:
        """Refuse a base that is none of ours, or holds values of another kind."""
        for table, columns in _KINDS.items():
            present = {row[1] for row in self._base.execute(f"PRAGMA table_info({table})")}
            if missing := set(columns) - present:
                raise FileError(
                    f"{self.path}: is not a ledger of this program: its table {table} has no "
                    f"{min(missing)}"
                )
            wrong = " OR ".join(f"NOT coalesce({_TESTS[kind].format(column)}, 0)"
                                for column, kind in columns.items())  # fmt: skip
            odd = self._base.execute(f"SELECT 1 FROM {table} WHERE {wrong} LIMIT 1").fetchone()
            if odd is not None:
                raise FileError(
                    f"{self.path}: is damaged: a value in its table {table} is of another kind; "
                    "compute the run again in another folder"
                )

    def close(self) -> None:
        """Close it; the rows added stay, in one file that is readable in a read-only folder."""
        if self._writable:
            with suppress(sqlite3.Error):  # another process reads it: nobody waits for that
                self._base.execute("PRAGMA busy_timeout=0")
                self._base.execute("PRAGMA journal_mode=DELETE")
        self._base.close()

    @contextmanager
    def _errors(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.Error as error:
            advice = (
                "earlier rows are kept" if self._writable else
                "if the run was interrupted and its folder is read-only, read a copy of the folder"
            )  # fmt: skip
            raise FileError(f"{self.path}: {error}; {advice}") from None

    @contextmanager
    def _together(self) -> Iterator[None]:
        """All of it or nothing."""
        with self._errors():
            self._base.execute("BEGIN IMMEDIATE")
            try:
                yield
            except BaseException:
                if self._base.in_transaction:
                    self._base.execute("ROLLBACK")
                raise
            self._base.execute("COMMIT")

    def describe(self, **facts: str) -> None:
        """Keep facts of the run by name, such as the text of its plan."""
        with self._together():
            self._base.executemany("INSERT OR REPLACE INTO facts VALUES (?, ?)", facts.items())

    def facts(self) -> dict[str, str]:
        """The facts that `describe` stored."""
        with self._errors():
            return dict(self._base.execute("SELECT name, value FROM facts"))

    def expect(self, pictures: Iterable[Facts], cells: Iterable[Cell]) -> int:
        """Say which pictures and cells the plan asks for; the number of cells."""
        with self._together():
            self._base.executemany(
                "INSERT OR IGNORE INTO pictures VALUES (?, ?, ?, ?, ?, ?)",
                ((p.digest, p.width, p.height, p.channels, p.bits, p.activity) for p in pictures),
            )
            self._base.execute("DELETE FROM plan")
            self._base.executemany(
                "INSERT INTO plan (cell, reference, degradation_name, repeat, treatment_name) "
                "VALUES (?, ?, ?, ?, ?)",
                (
                    (c.key, c.reference, c.degradation_name, c.repeat, c.treatment_name)
                    for c in cells
                ),
            )
            (count,) = self._base.execute("SELECT count(*) FROM plan").fetchone()
        return int(count)

    def known(
        self, keys: list[str], makers: Mapping[str, str]
    ) -> dict[str, tuple[set[str], str | None]]:
        """Of cells that are done: which figures they have, and the file of their picture.

        A figure that was computed by another version, or with other files, than `makers` say is not
        had.
        """
        marks = ",".join("?" * len(keys))
        with self._errors():
            found: dict[str, tuple[set[str], str | None]] = {
                key: (set(), picture)
                for key, picture in self._base.execute(
                    f"SELECT key, picture FROM cells WHERE status='done' AND key IN ({marks})", keys
                )
            }
            for cell, metric, made in self._base.execute(
                f"SELECT cell, metric, makers FROM scores WHERE cell IN ({marks})", keys
            ):
                if cell in found and made == makers.get(metric, ""):
                    found[cell][0].add(metric)
        return found

    def add(
        self,
        results: list[tuple[Cell, Done, tuple[str, ...], str | None]],
        makers: Mapping[str, str] | None = None,
    ) -> None:
        """Write results; each with the figures that were asked for and the file of its picture.

        `makers` are the versions of figures, with digests of the files that they name.

        A figure that was asked for and does not apply is kept as NULL, so that it is not asked for
        again.
        """
        cells, scores, timings = [], [], []
        for cell, done, asked, picture in results:
            status = "done" if done.reason is None else "failed"
            cells.append(
                (cell.key, cell.digest, cell.degradation, cell.seed, cell.treatment, __version__,
                 status, done.reason, done.size, done.bpp, picture)
            )  # fmt: skip
            if done.reason is None:
                scores += [
                    (cell.key, name, done.scores.get(name), (makers or {}).get(name, ""))
                    for name in asked
                ]
            timings += [(cell.key, stage, s) for stage, s in done.seconds.items()]
        with self._together():
            self._base.executemany(
                "INSERT INTO cells VALUES (?,?,?,?,?,?,?,?,?,?,?) ON CONFLICT (key) DO UPDATE SET "
                "version=excluded.version, status=excluded.status, reason=excluded.reason, "
                "bytes=excluded.bytes, bpp=excluded.bpp, "
                "picture=coalesce(excluded.picture, picture)", cells,
            )  # fmt: skip
            self._base.executemany("INSERT OR REPLACE INTO scores VALUES (?,?,?,?)", scores)
            self._base.executemany("INSERT OR REPLACE INTO timings VALUES (?,?,?)", timings)

    def counts(self) -> tuple[int, int, int]:
        """Cells that the plan asks for, those that are done, those that failed."""
        with self._errors():
            row = self._base.execute(
                "SELECT count(*), coalesce(sum(c.status='done'), 0), "
                "coalesce(sum(c.status='failed'), 0) "
                "FROM plan p LEFT JOIN cells c ON c.key = p.cell"
            ).fetchone()
        return int(row[0]), int(row[1]), int(row[2])

    def digests(self) -> dict[str, str]:
        """Digest of each reference's samples, by its name."""
        with self._errors():
            return dict(self._base.execute(
                "SELECT DISTINCT p.reference, c.digest FROM plan p JOIN cells c ON c.key = p.cell"
            ))  # fmt: skip

    def identities(self) -> dict[tuple[str, str, int, str], str]:
        """Key of each cell of the plan, by its reference's digest, chains and seed."""
        with self._errors():
            rows = self._base.execute(
                "SELECT c.digest, c.degradation, c.seed, c.treatment, c.key FROM plan p "
                "JOIN cells c ON c.key = p.cell"
            )
            return {(digest, made, seed, treated): key for digest, made, seed, treated, key in rows}

    def keys(self) -> frozenset[str]:
        """Keys of all cells of the plan."""
        with self._errors():
            return frozenset(key for (key,) in self._base.execute("SELECT cell FROM plan"))

    def values(self, metric: str) -> dict[str, float]:
        """A figure of all cells of the plan that have it, by their keys."""
        with self._errors():
            return dict(self._base.execute(
                "SELECT s.cell, s.value FROM scores s JOIN plan p ON p.cell = s.cell "
                "WHERE s.metric = ? AND s.value IS NOT NULL AND s.makers = ?",
                (metric, self.makers().get(metric, "")),
            ))  # fmt: skip

    def missing(self) -> dict[str, int]:
        """Number of the plan's rows that are done without a figure, by metric or gauge."""
        with self._errors():
            return dict(self._base.execute(
                "SELECT s.metric, count(*) FROM scores s JOIN plan p ON p.cell = s.cell "
                "WHERE s.value IS NULL GROUP BY s.metric"
            ))  # fmt: skip

    def outdated(self) -> dict[str, int]:
        """Number of figures of the plan's cells that the makers of the last run have not made."""
        found: dict[str, int] = {}
        with self._errors():
            rows = self._base.execute(
                "SELECT s.metric, s.makers, count(*) FROM scores s JOIN plan p ON p.cell = s.cell "
                "GROUP BY s.metric, s.makers"
            ).fetchall()
        makers = self.makers()
        for label, made, count in rows:
            if label in makers and made != makers[label]:
                found[label] = found.get(label, 0) + count
        return found

    def makers(self) -> dict[str, str]:
        """Versions of the figures of the last run, with digests of the files that they name."""
        return self._texts("makers")

    def libraries(self) -> dict[str, str]:
        """Libraries behind the codecs of the last run, by the codec's name."""
        return self._texts("libraries")

    def _texts(self, fact: str) -> dict[str, str]:
        """A fact that is a JSON object of texts."""
        try:
            content = json.loads(self.facts().get(fact, "{}"))
        except (ValueError, RecursionError):
            content = None
        if not isinstance(content, dict):
            raise FileError(f"{self.path}: is damaged: its {fact} are not a JSON object")
        return {str(name): str(text) for name, text in content.items()}

    def failures(self) -> list[tuple[str, str, str, str]]:
        """Reference, degradation, treatment and reason of the cells that failed."""
        with self._errors():
            return list(self._base.execute(
                "SELECT p.reference, c.degradation, c.treatment, c.reason FROM plan p "
                "JOIN cells c ON c.key = p.cell WHERE c.status='failed' ORDER BY p.number"
            ))  # fmt: skip

    def columns(self) -> list[str]:
        """Titles of the columns of `rows`."""
        return [*COLUMNS, *self._metrics(), *(f"seconds {stage}" for stage in _STAGES)]

    def rows(self) -> Iterator[tuple[object, ...]]:
        """A row for every cell that the plan asks for and that was tried, in the plan's order.

        Names, chains, sizes, figures, seconds: see `columns`. Figures by other versions than those
        of the last run are left out. Rows are read in batches.
        """
        names = self._metrics()
        last = 0
        while True:
            with self._errors():
                batch = self._base.execute(_BATCH, (last, _ROWS)).fetchall()
                figures = self._by_cell("scores", last, batch)
                seconds = self._by_cell("timings", last, batch)
            if not batch:
                return
            last = batch[-1][0]
            for _, key, *row in batch:
                own, took = figures.get(key, {}), seconds.get(key, {})
                yield (*row, *(own.get(n) for n in names), *(took.get(s) for s in _STAGES))

    def _by_cell(
        self, table: str, last: int, batch: list[tuple[Any, ...]]
    ) -> dict[str, dict[str, float | None]]:
        """Values of a batch's cells, by cell and name."""
        found: dict[str, dict[str, float | None]] = {}
        if batch:
            made = ", v.makers" if table == "scores" else ", NULL"
            makers = self.makers() if table == "scores" else {}
            for cell, name, value, maker in self._base.execute(
                f"SELECT v.cell, v.{_NAMES[table]}, v.{_VALUES[table]}{made} FROM {table} v "
                "WHERE v.cell IN "
                "(SELECT cell FROM plan WHERE number > ? AND number <= ?)",
                (last, batch[-1][0]),
            ):
                if name not in makers or maker == makers[name]:
                    found.setdefault(cell, {})[name] = value
        return found

    def _metrics(self) -> list[str]:
        """Figures that cells of the plan have, in the order of the plan where it is known."""
        names = [str(row[0]) for row in self._base.execute(
            "SELECT DISTINCT s.metric FROM scores s JOIN plan p ON p.cell = s.cell"
        )]  # fmt: skip
        order = self.facts().get("figures", "").split("\n")
        return sorted(names, key=lambda name: (order.index(name) if name in order else 999, name))


_STAGES = ("degrade", "treat", "score")
_NAMES = {"scores": "metric", "timings": "stage"}
_VALUES = {"scores": "value", "timings": "seconds"}
#: Rows that are read at a time.
_ROWS = 500
_BATCH = """
SELECT p.number, p.cell, p.reference, i.width, i.height, i.channels, i.bits, i.activity,
    p.degradation_name, c.degradation, p.repeat, c.seed, p.treatment_name, c.treatment, c.status,
    c.reason, c.bytes, c.bpp, c.picture
FROM plan p JOIN cells c ON c.key = p.cell JOIN pictures i ON i.digest = c.digest
WHERE p.number > ? ORDER BY p.number LIMIT ?
"""
#: Columns of a row before its figures, none of which has such a name.
COLUMNS = (
    "reference", "width", "height", "channels", "bits", "reference activity",
    "degradation name", "degradation", "repeat", "seed", "treatment name", "treatment", "status",
    "reason", "bytes", "bpp", "picture",
)  # fmt: skip


def _quoted(path: Path) -> str:
    from urllib.parse import quote

    return quote(str(path.absolute()))
