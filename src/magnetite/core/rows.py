"""Results as rows of figure, value and unit."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple


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
