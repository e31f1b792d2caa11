"""The table: every result is one, for terminals, files, notebooks and the report."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, NamedTuple

from magnetite.core.quantities import counted, significant

if TYPE_CHECKING:
    from magnetite.core.methods.declarations import Direction

#: A value; None where it does not apply. A mapping holds texts by name, such as reasons.
Value = str | float | int | bool | Mapping[str, str] | None

#: Rows of a result that are printed, and characters of a cell.
_PRINTED, _CELL = 12, 28
_ARROWS: dict[Direction | None, str] = {"higher": "↑", "lower": "↓", None: ""}


class Row(NamedTuple):
    """One figure of a result."""

    figure: str
    #: None where it does not apply.
    value: float | str | None
    unit: str = ""


class Column(NamedTuple):
    """A column: its name, and the meaning of its values."""

    name: str
    unit: str = ""
    #: The better direction of a figure.
    direction: Direction | None = None
    #: The object of a JSON record that holds it, such as `scores`.
    within: str = ""
    #: Whether records without a value leave it out, and tables where no row has one.
    optional: bool = False
    #: The end of its heading.
    remark: str = ""
    #: Its name in tables without objects, if that is another.
    flat: str = ""

    @property
    def heading(self) -> str:
        """Name, unit and direction."""
        words = [self.name, self.unit, _ARROWS[self.direction], self.remark]
        return " ".join(filter(None, words))


@dataclass(frozen=True, repr=False)
class Table:
    """Typed columns and their rows.

    Parameters
    ----------
    columns : tuple of Column
    rows : sequence of sequences
        A value for each column.
    title, caption : str
        Words above and below.
    families : mapping of int to str
        Name of the group that begins with a row, by the row's number.
    """

    columns: tuple[Column, ...]
    rows: Sequence[Sequence[Value]]
    title: str = ""
    caption: str = ""
    families: Mapping[int, str] = field(default_factory=dict)

    @classmethod
    def of(
        cls,
        columns: Sequence[Column | str],
        rows: Sequence[Sequence[Any]],
        caption: str = "",
        **more: Any,
    ) -> Table:
        """A table whose columns may be names alone; optional ones without a value are left out."""
        typed = [Column(one) if isinstance(one, str) else one for one in columns]
        kept = [
            k for k, column in enumerate(typed)
            if not column.optional or any(row[k] is not None for row in rows)
        ]  # fmt: skip
        if len(kept) < len(typed):
            rows = [[row[k] for k in kept] for row in rows]
        return cls(tuple(typed[k] for k in kept), rows, caption=caption, **more)

    @classmethod
    def of_named(cls, rows: Sequence[Any], caption: str = "") -> Table:
        """Named tuples of one kind, a column for each field."""
        fields = rows[0]._fields if rows else Row._fields
        return cls.of(fields, rows, caption)

    @property
    def names(self) -> list[str]:
        """Names of the columns."""
        return [column.flat or column.name for column in self.columns]

    def records(self) -> list[dict[str, Any]]:
        """Each row as an object for JSON."""
        records: list[dict[str, Any]] = []
        for row in self.rows:
            record: dict[str, Any] = {}
            for column, value in zip(self.columns, row, strict=True):
                if value is None and column.optional:
                    continue
                target = record.setdefault(column.within, {}) if column.within else record
                target[column.name] = value
            records.append(record)
        return records

    def data_frame(self) -> Any:
        """The rows as a pandas data frame."""
        import pandas as pd

        return pd.DataFrame(list(map(tuple, self.rows)), columns=self.names)

    def markdown(self) -> str:
        """The table in Markdown."""
        lines = [[column.heading for column in self.columns], ["---"] * len(self.columns)]
        lines += [
            ["" if v is None else _short(v).replace("|", "\\|") for v in r] for r in self.rows
        ]
        text = "\n".join(f"| {' | '.join(line)} |" for line in lines)
        return f"{text}\n\n{self.caption}" if self.caption else text

    def __repr__(self) -> str:
        return "\n".join([f"<{counted(len(self.rows), 'row')}", *self.lines()]) + ">"

    def _repr_html_(self) -> str:
        return str(self.data_frame()._repr_html_())

    def lines(self) -> list[str]:
        """The first rows as text."""
        lines = ["  ".join(map(_cell, row)).rstrip() for row in self.rows[:_PRINTED]]
        if len(self.rows) > _PRINTED:
            lines.append(f"… {len(self.rows) - _PRINTED} more: see data_frame()")
        return lines


class Tabular(ABC):
    """A result that is a table: printed as its first rows, in notebooks as all of them."""

    @abstractmethod
    def rows(self) -> Sequence[tuple[Any, ...]]:
        """A row for each figure."""

    def table(self) -> Table:
        """The rows with their columns."""
        return Table.of_named(self.rows())

    def data_frame(self) -> Any:
        """The rows as a pandas data frame."""
        return self.table().data_frame()

    def __repr__(self) -> str:
        table = self.table()
        lines = [f"<{type(self).__name__}: {counted(len(table.rows), 'row')}", *table.lines()]
        return "\n  ".join(lines) + ">"

    def _repr_html_(self) -> str:
        return self.table()._repr_html_()


def _short(value: Any) -> str:
    if value is None:
        return "–"
    if isinstance(value, bool):
        return str(value).lower()
    return significant(value, 6) if isinstance(value, float) else str(value)


def _cell(value: Any) -> str:
    text = _short(value)
    return text if len(text) <= _CELL else f"{text[: _CELL - 1]}…"
