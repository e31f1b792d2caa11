"""The ledger's table as CSV and Parquet."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from magnetite.core.extras import installed
from magnetite.files.atomic import inside, replacing
from magnetite.files.tables import csv_text

if TYPE_CHECKING:
    from magnetite.experiment.ledger import Ledger

CSV, PARQUET = "scores.csv", "scores.parquet"
#: Rows of a group of a Parquet file.
_GROUP = 5000
_TEXTS = {
    "reference", "degradation name", "degradation", "treatment name", "treatment", "status",
    "reason", "picture",
}  # fmt: skip
_WHOLE = {"width", "height", "channels", "repeat", "seed", "bytes"}


def exported(folder: Path) -> list[Path]:
    """Paths of the table's files: that of Parquet where its package is installed.

    Raises
    ------
    FileError
        If one of them is a link that leads out of the folder.
    """
    return [inside(folder, name) for name in (CSV, *([PARQUET] if installed("pyarrow") else []))]


def export(ledger: Ledger, paths: list[Path]) -> None:
    """Write the files, each whole or not at all; an earlier one that is not written again goes."""
    for name in (CSV, PARQUET):
        if (earlier := paths[0].with_name(name)) not in paths:
            earlier.unlink(missing_ok=True)
    for path in paths:
        (_write_csv if path.name == CSV else _write_parquet)(ledger, path)


def _write_csv(ledger: Ledger, path: Path) -> None:
    with replacing(path) as temporary, open(temporary, "w", encoding="utf-8", newline="") as file:
        file.write(csv_text(ledger.columns(), []))
        for row in ledger.rows():
            file.write(csv_text(None, [row]))  # type: ignore[list-item]


def _write_parquet(ledger: Ledger, path: Path) -> None:
    import pyarrow as pa
    import pyarrow.parquet as pq

    columns = ledger.columns()
    kinds = [
        pa.string() if c in _TEXTS else pa.int64() if c in _WHOLE else pa.float64() for c in columns
    ]
    schema = pa.schema(list(zip(columns, kinds, strict=True)))
    with replacing(path) as temporary, pq.ParquetWriter(temporary, schema) as writer:
        group: list[tuple[object, ...]] = []

        def write() -> None:
            arrays = [
                pa.array(values, kind)
                for values, kind in zip(zip(*group, strict=True), kinds, strict=True)
            ]
            writer.write_table(pa.Table.from_arrays(arrays, schema=schema))
            group.clear()

        for row in ledger.rows():
            group.append(row)
            if len(group) == _GROUP:
                write()
        if group:
            write()
