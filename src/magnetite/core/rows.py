"""Results as rows of figure, value and unit."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import Any, NamedTuple

#: Rows of a result that are printed, and characters of a cell.
_PRINTED, _CELL = 12, 28


class Row(NamedTuple):
    """One figure of a result."""

    figure: str
    #: None where it does not apply.
    value: float | str | None
    unit: str = ""


def data_frame(rows: Sequence[tuple[Any, ...]]) -> Any:
    """Rows of one kind as a pandas data frame, a column for each field."""
    import pandas as pd

    columns = getattr(rows[0], "_fields", None) if rows else Row._fields
    return pd.DataFrame(rows, columns=columns)


class Tabular(ABC):
    """A result of rows: printed as the first of them, in notebooks as their table."""

    @abstractmethod
    def rows(self) -> Sequence[tuple[Any, ...]]:
        """A row for each figure."""

    @abstractmethod
    def frame(self) -> Any:
        """The rows as a pandas data frame."""

    def __repr__(self) -> str:
        rows = self.rows()
        lines = [f"<{type(self).__name__}: {len(rows)} rows"]
        lines += ["  ".join(_cell(value) for value in row).rstrip() for row in rows[:_PRINTED]]
        if len(rows) > _PRINTED:
            lines.append(f"… {len(rows) - _PRINTED} more: see frame()")
        return "\n  ".join(lines) + ">"

    def _repr_html_(self) -> str:
        return str(self.frame()._repr_html_())


def _cell(value: Any) -> str:
    text = "–" if value is None else f"{value:.6g}" if isinstance(value, float) else str(value)
    return text if len(text) <= _CELL else f"{text[: _CELL - 1]}…"
