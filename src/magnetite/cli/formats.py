"""Formats of printed results: a function and its name for each."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING, Annotated, Any

import typer

from magnetite.cli.output import print_table, say
from magnetite.core.errors import InputError
from magnetite.files.tables import csv_text, plain_value

if TYPE_CHECKING:
    from magnetite.core.table import Table


class OutputFormat(StrEnum):
    """How results are printed."""

    table = "table"
    json = "json"
    csv = "csv"
    markdown = "markdown"
    parquet = "parquet"


FormatOption = Annotated[
    OutputFormat,
    typer.Option(
        "--format",
        help="table for people; json, csv, markdown or parquet for programs.",
        metavar="FORMAT",
    ),
]


@dataclass(frozen=True)
class Output:
    """Output of a command: tables, and other forms of them where there are."""

    tables: Sequence[Table]
    #: The JSON document; an object with the `rows` of the first table if left out.
    document: Mapping[str, Any] | None = None
    #: Prints it for people; all tables one after the other if left out.
    people: Callable[[], object] | None = None
    #: The Markdown document; the tables one after the other if left out.
    markdown: Callable[[], str] | None = None


def emit(format: OutputFormat, result: Output) -> None:
    """Print a result on standard output."""
    _WRITERS[format](result)


def _for_people(result: Output) -> None:
    if result.people is not None:
        result.people()
        return
    for number, table in enumerate(result.tables):
        if number:
            say()
        print_table(table)


def _as_json(result: Output) -> None:
    document = result.document
    print_json({"rows": result.tables[0].records()} if document is None else document)


def print_json(document: Mapping[str, Any]) -> None:
    """One JSON document on standard output."""
    print(json.dumps(_plain_tree(document), indent=2, ensure_ascii=False, allow_nan=False))


def _plain_tree(content: Any) -> Any:
    if isinstance(content, Mapping):
        return {key: _plain_tree(value) for key, value in content.items()}
    if isinstance(content, list | tuple):
        return [_plain_tree(value) for value in content]
    return plain_value(content)


def _as_csv(result: Output) -> None:
    table = result.tables[0]
    print(csv_text(table.names, table.rows), end="")


def _as_markdown(result: Output) -> None:
    if result.markdown is not None:
        print(result.markdown())
        return
    for number, table in enumerate(result.tables):
        if number:
            print()
        if table.title:
            print(f"**{table.title}**\n")
        print(table.markdown())


def _as_parquet(result: Output) -> None:
    from magnetite.core.extras import require

    require("pyarrow", "parquet", "--format parquet")
    if sys.stdout.isatty():
        raise InputError(
            "--format parquet writes bytes: send them to a file, as in > table.parquet"
        )
    sys.stdout.flush()
    result.tables[0].data_frame().to_parquet(sys.stdout.buffer, index=False)


_WRITERS: dict[OutputFormat, Callable[[Output], None]] = {
    OutputFormat.table: _for_people,
    OutputFormat.json: _as_json,
    OutputFormat.csv: _as_csv,
    OutputFormat.markdown: _as_markdown,
    OutputFormat.parquet: _as_parquet,
}
