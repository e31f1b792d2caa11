"""The rows of a run, as its tables read them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import pandas as pd

from magnetite.core.chain.notation import parse_step
from magnetite.core.errors import ChainError, InputError
from magnetite.core.methods import declarations
from magnetite.core.methods.caching import follows_declarations
from magnetite.core.quantities import counted
from magnetite.core.table import Table
from magnetite.experiment.ledger import COLUMNS, Ledger
from magnetite.experiment.plan import NOTHING

#: Columns of a run's table that tables may be grouped by.
GROUPS = {
    "reference": "reference", "degradation": "degradation", "treatment": "label",
    "degradations": "degradation name", "treatments": "treatment name",
}  # fmt: skip


@dataclass(frozen=True)
class RunTable:
    """A table of a run while it is made, with its name and its remarks."""

    name: str
    title: str
    frame: Any
    caption: str = ""
    #: Rows left out of the table, and why.
    notes: tuple[str, ...] = ()

    def table(self) -> Table:
        """The result: numbers as Python's own, nothing for NaN."""
        rows = [list(map(_plain, row)) for row in self.frame.itertuples(index=False)]
        return Table.of(list(self.frame.columns), rows, self.caption, title=self.title)


@dataclass(frozen=True)
class RunRows:
    """The rows of a run that are done, and those that failed.

    The column `label` names a treatment in tables and sentences: by the plan's own name where
    that stands for one chain.
    """

    frame: Any
    figures: tuple[str, ...]
    lost: Any
    missing: int = 0
    #: Number of figures by another version than that of the last run, by label; left out.
    outdated: Mapping[str, int] = field(default_factory=dict)
    #: Libraries behind the codecs of the rows, by the codec's name.
    libraries: Mapping[str, str] = field(default_factory=dict)

    @classmethod
    def of(cls, tried: Any, figures: Sequence[str], missing: int = 0) -> RunRows:
        """Rows that were tried, of a table with the columns of `Ledger.columns`."""
        tried = tried.assign(label=_labels(tried))
        done = tried["status"] == "done" if "status" in tried else tried.index >= 0
        return cls(tried[done], tuple(figures), tried[~done], missing)

    @property
    def failed(self) -> int:
        """Number of rows that failed."""
        return len(self.lost)

    def omissions(self, *, failed: bool = True) -> tuple[str, ...]:
        """Sentences on rows and figures of the run that a table is not made of.

        A table that counts failed rows, as a guarantee does, leaves none of these out.
        """
        counts = (self.failed * failed, "failed row"), (self.missing, "missing row")
        rows = [counted(count, noun) for count, noun in counts if count]
        return (
            *([f"left out: {', '.join(rows)}"] if rows else []),
            *(
                f"{counted(count, 'figure')} of {label} made by another version of it than that of "
                "the last run, or with other files, left out: run the plan again"
                for label, count in self.outdated.items()
            ),
        )

    def in_order(self, *columns: str) -> Any:
        """The rows that are done, by the plan's order of columns: failed rows may come first."""
        tried = pd.concat([self.frame[[*columns]], self.lost[[*columns]]]).sort_index()
        position = {c: {value: k for k, value in enumerate(tried[c].unique())} for c in columns}
        return self.frame.sort_values(
            list(columns), key=lambda own: own.map(position[own.name]), kind="stable"
        )

    def split(self, columns: list[str]) -> Iterator[tuple[tuple[Any, ...], RunRows]]:
        """The rows of every group of equal values, in their order; all of them for no column."""
        if not columns:
            yield (), self
            return
        lost = dict(iter(self.lost.groupby(columns, sort=False)))
        for key, frame in self.in_order(*columns).groupby(columns, sort=False):
            own = lost.get(key, self.lost.iloc[:0])
            yield key, RunRows(frame, self.figures, own, libraries=self.libraries)


def read_rows(folder: Path) -> RunRows:
    """The table of a run, as far as it has come.

    Raises
    ------
    FileError
        If the folder holds no run.
    InputError
        If no row is done; with the reasons where rows failed.
    """
    ledger = Ledger(folder, writable=False)
    try:
        columns = ledger.columns()
        tried = pd.DataFrame(ledger.rows(), columns=columns)
        total, done, failed = ledger.counts()
        outdated, libraries = ledger.outdated(), ledger.libraries()
    finally:
        ledger.close()
    figures = [c for c in columns[len(COLUMNS) :] if not c.startswith("seconds ")]
    # A column that no row has a value in would be one of objects.
    tried = tried.astype(dict.fromkeys(["bpp", "reference activity", *figures], float))
    rows = RunRows.of(tried, figures, total - done - failed)
    rows = replace(rows, outdated=outdated, libraries=libraries)
    if rows.frame.empty:
        raise InputError(f"{folder}: {_none_done(rows)}")
    return rows


def _none_done(rows: RunRows) -> str:
    if not rows.failed:
        return "no row is done yet: run the plan first"
    reasons = Counter(rows.lost["reason"]).most_common(3)
    words = "; ".join(f"{reason} ({count})" for reason, count in reasons)
    return f"no row is done: {rows.failed} failed: {words}"


def metrics_of(rows: RunRows) -> list[str]:
    """The figures of a run that are metrics, in its order."""
    return [name for name in rows.figures if better_of(name) is not None]


def chosen_metric(rows: RunRows, metric: str | None) -> str | None:
    """The figure that treatments are compared by: the one named, or the first metric, if any.

    Raises
    ------
    InputError
        If the run does not have the figure, or it is a gauge.
    """
    if metric is None:
        return next(iter(metrics_of(rows)), None)
    if metric not in rows.figures:
        raise InputError(
            f"{metric!r} is not a figure of this run; it has: {', '.join(rows.figures)}"
        )
    if better_of(metric) is None:
        raise InputError(f"{metric!r} is a gauge: treatments are compared by a metric")
    return metric


@follows_declarations
@lru_cache(maxsize=1024)
def declared(label: str) -> declarations.Figure | None:
    """The metric or gauge of a ledger's label; None where this process has none of that name."""
    for kind in ("metric", "gauge"):
        with suppress(ChainError):
            return parse_step(label, kind).declared(declarations.Figure)
    return None


def better_of(label: str) -> str | None:
    """The better direction of a metric; None of a gauge, where that depends."""
    figure = declared(label)
    return figure.better if isinstance(figure, declarations.Metric) else None


def _plain(value: Any) -> Any:
    if value is None or value != value:  # noqa: PLR0124 NaN alone differs from itself
        return None
    plain = value.item() if hasattr(value, "item") else value
    return plain if isinstance(plain, str | float | int) else str(plain)


def _labels(tried: Any) -> list[str]:
    """A label for each row's treatment: its name, or its chain where the name has several."""
    pairs = list(zip(tried["treatment name"], tried["treatment"], strict=True))
    chains = Counter(name for name, _ in set(pairs))
    labels = {pair: label_of(*pair, chains[pair[0]] == 1) for pair in set(pairs)}
    alike = Counter(labels.values())  # a name may be the text of another one's chain
    return [labels[pair] if alike[labels[pair]] == 1 else f"{pair[0]}: {pair[1]}" for pair in pairs]


def label_of(name: str, chain: str, single: bool) -> str:
    """A treatment's label: its name if that stands for a single chain, or the chain after it."""
    if single or chain == NOTHING:
        return name
    return chain if chain.split(" ", 1)[0] == name else f"{name}: {chain}"
