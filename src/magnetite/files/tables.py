"""CSV texts."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from magnetite.core.table import Value


def plain_value(value: Any) -> Any:
    """A value for JSON and CSV: infinities are the strings "inf" and "-inf"."""
    if isinstance(value, float) and math.isinf(value):
        return "inf" if value > 0 else "-inf"
    return value


def csv_text(titles: Sequence[str] | None, rows: Sequence[Sequence[Value]]) -> str:
    """CSV (RFC 4180, lines end in \\n), figures in full; without titles the rows alone."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    if titles is not None:
        writer.writerow(titles)
    writer.writerows([[_csv_value(cell) for cell in row] for row in rows])
    return text.getvalue()


def _csv_value(value: Any) -> Any:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, Mapping):
        return "; ".join(f"{name}: {text}" for name, text in value.items())
    return plain_value(value)
