"""`magnetite summarize`."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.options import note, promise_of
from magnetite.cli.output import print_table, say, say_remark
from magnetite.core.errors import InputError
from magnetite.core.quantities import figure
from magnetite.core.table import Table

if TYPE_CHECKING:
    from magnetite.experiment.results import RunTable


def run(
    folders: Annotated[
        list[Path],
        typer.Argument(
            metavar="RUN [OTHER]",
            help="Folder of a run; with another one, the rows that both have are compared.",
        ),
    ],
    by: Annotated[
        str,
        typer.Option(
            help="Means are grouped by these: reference, degradation, treatment; degradations and "
            "treatments group by the plan's names.",
            metavar="NAMES",
        ),
    ] = "degradation,treatment",
    metric: Annotated[
        str | None,
        typer.Option(help="Metric that treatments are ranked by; the first if left out."),
    ] = None,
    table: Annotated[
        str | None,
        typer.Option(
            help="One table: means, ranking, interactions, rates, agreement, references, cost, "
            "noticed, or guarantee.",
            metavar="TABLE",
        ),
    ] = None,
    need: Annotated[
        list[str] | None,
        typer.Option(
            help="Of the guarantee: a figure with a bound, as in 'ssim>=0.95'; may be repeated.",
            metavar="FIGURE>=VALUE",
        ),
    ] = None,
    share: Annotated[
        str | None,
        typer.Option(
            help="Of the guarantee: share of new references; 95% if left out.", metavar="SHARE"
        ),
    ] = None,
    confidence: Annotated[
        str | None, typer.Option(help="Of the guarantee; 90% if left out.", metavar="SHARE")
    ] = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    from magnetite.experiment.front import summarize

    folder, other = _runs(folders)
    if format in _OF_ONE and table is None and other is None:
        raise InputError(f"--format {format.value} takes one table: name it with --table")
    promised = promise_of(share, confidence)
    made = summarize(
        folder, table, by=by, metric=metric, need=need or [], share=promised[0],
        confidence=promised[1], other=other,
    )  # fmt: skip
    if format in _OF_ONE:
        for text in made[0].notes:
            note(text)
    tables = [one.table() for one in made]
    document = {
        "tables": {one.name: table.records() for one, table in zip(made, tables, strict=True)},
        "notes": {one.name: list(one.notes) for one in made if one.notes},
    }
    emit(format, Output(tables, document, lambda: _print_all(made, by.split(","))))


#: Formats that hold one table.
_OF_ONE = (OutputFormat.csv, OutputFormat.parquet)


def _print_all(made: Sequence[RunTable], groups: list[str]) -> None:
    said: set[str] = set()
    for number, one in enumerate(made):
        if number:
            say()
        say(one.title)
        _print(one, [g for g in groups if g in one.frame and g not in _TREATMENTS])
        for text in one.notes:
            if text not in said:
                say_remark(text)
        said.update(one.notes)


def _runs(folders: list[Path]) -> tuple[Path, Path | None]:
    """One run, or two that are compared."""
    if len(folders) > 2:
        raise InputError(f"two runs are compared, and {len(folders)} are named")
    if len(folders) == 1:
        return folders[0], None
    return folders[0], folders[1]


#: Groups that are the rows of a ranking themselves.
_TREATMENTS = ("treatment", "treatments")


def _print(table: RunTable, groups: list[str]) -> None:
    """A table; rankings and rates of several groups under the name of each."""
    if table.name not in ("ranking", "rates") or not groups:
        print_table(_wide(table) if table.name == "means" else table.table())
        return
    parts = list(table.frame.groupby(groups, sort=False))
    for number, (key, part) in enumerate(parts):
        if number:
            say()
        say(", ".join(map(str, key)))
        last = number == len(parts) - 1
        caption = table.caption if last else ""
        print_table(replace(table, frame=part.drop(columns=groups), caption=caption).table())


def _wide(table: RunTable) -> Table:
    """Means with a row for each group and a column for each figure: mean and interval."""
    groups = list(table.frame.columns[: list(table.frame.columns).index("figure")])
    figures = list(dict.fromkeys(table.frame["figure"]))
    lines: dict[tuple[object, ...], dict[str, str]] = {}
    counts: dict[tuple[object, ...], tuple[int, int]] = {}
    for row in table.frame.to_dict("records"):
        key = tuple(row[name] for name in groups)
        reach = _reach(row["mean"], row["95 % from"], row["to"])
        lines.setdefault(key, {})[row["figure"]] = f"{figure(row['mean'])}{reach}"
        counts[key] = max(counts.get(key, (0, 0)), (row["references"], row["rows"]))
    cells = [
        [*map(str, key), *(own.get(name) for name in figures), *counts[key]]
        for key, own in lines.items()
    ]
    return Table.of([*groups, *figures, "references", "rows"], cells, table.caption)


def _reach(mean: float, low: float, high: float) -> str:
    """Half an interval that lies evenly about its mean, or both ends of one that does not."""
    if math.isnan(low):
        return ""
    if abs((high - mean) - (mean - low)) < 1e-9 * (high - low):
        return f" ± {figure(mean - low)}"
    return f" ({figure(low)} to {figure(high)})"
