"""`magnetite gauge`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.options import (
    FullScaleOption,
    RegionOption,
    check_whole,
    limits,
    note,
    note_earlier,
    protect,
    rows_of,
)
from magnetite.cli.output import print_table
from magnetite.cli.score_output import MOST_COLUMNS, families_of
from magnetite.core.errors import InputError, PictureError
from magnetite.core.quantities import figures
from magnetite.core.table import Column, Table
from magnetite.files.tables import csv_text

if TYPE_CHECKING:
    from magnetite.core.chain.step import Step
    from magnetite.core.operations.measuring import Figures
    from magnetite.core.operations.selection import Selection
    from magnetite.core.picture import Frame, Picture


_CURVE_FILES = ("-noise.csv", "-mtf.csv", "-curves.png")


def run(
    pictures: Annotated[list[Path], typer.Argument(metavar="PICTURE…", help="Pictures to gauge.")],
    metrics: Annotated[
        str,
        typer.Option(help="Gauges with their settings, separated by commas; or all that apply."),
    ] = "laplacian-variance",
    region: RegionOption = None,
    curves: Annotated[
        Path | None,
        typer.Option(
            help="Folder for noise over signal and, where an edge is found, the whole MTF: "
            "CSV, and a figure of them.",
            metavar="FOLDER",
        ),
    ] = None,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    from magnetite.core.operations.selection import selected

    asked = selected(metrics, "gauge")
    if curves is not None:
        _check_names(pictures)
        protect(pictures, [curves / f"{p.stem}{end}" for p in pictures for end in _CURVE_FILES])
    rows: list[_Row] = []
    for path in pictures:
        rows.append(_row(path, asked, region, curves, full_scale))
    if not any(row.figures for row in rows):
        raise PictureError(f"{rows[0].path}: {next(iter(rows[0].figures.left_out.values()))}")
    steps = [step for step in asked if any(str(step) in row.figures for row in rows)]
    _print(rows, steps, region, format)
    for row in rows:
        for label, reason in row.figures.left_out.items():
            note(f"{row.path}: {label} left out: {reason}")
        for remark in row.figures.remarks:
            note(remark)


class _Row(NamedTuple):
    path: Path
    frame: Frame
    figures: Figures


def _row(
    path: Path, asked: Selection, region: str | None, curves: Path | None, full_scale: float | None
) -> _Row:
    """Figures of a picture, and its curves if they are asked for."""
    from magnetite.core.operations.gauge import gauge, part_of
    from magnetite.core.picture.rows import whole
    from magnetite.files.resources import DiskFiles

    source = rows_of(path, full_scale)
    part = part_of(source, region)
    if curves is not None:
        check_whole(part, "--curves needs the whole picture: name a part of it (--region)")
        part = whole(part)
        _write_curves(part, path, curves)
    found = gauge(part, asked, strict=False, files=DiskFiles(), allowance=limits.allowance)
    return _Row(path, source.frame, found)


def _print(rows: list[_Row], steps: list[Step], region: str | None, format: OutputFormat) -> None:
    from magnetite.core.operations.selection import score_column

    labels, part = [str(step) for step in steps], region and f"region {region}"
    table = Table.of(
        [
            "picture",
            *(score_column(step, within="gauges") for step in steps),
            Column("measured_part", optional=True, flat="measured part"),
            Column("left_out", optional=True, flat="left out"),
        ],
        [
            [str(row.path), *map(row.figures.get, labels), part, row.figures.left_out or None]
            for row in rows
        ],
    )
    emit(format, Output([table], people=lambda: print_table(_for_people(rows, steps, region))))


def _for_people(rows: list[_Row], steps: list[Step], region: str | None) -> Table:
    """A row for each picture; where the gauges are many, a row for each of them instead."""
    from magnetite.core.operations.selection import score_column

    colour = any(row.frame.channels > 1 for row in rows)
    columns = [score_column(step, colour=colour) for step in steps]
    cells = [[row.figures.get(str(step)) for step in steps] for row in rows]
    caption = "dn are those of 8 bits, whatever the picture's depth; – does not apply"
    caption = caption if region is None else f"region {region}; {caption}"
    heads = [[str(row.path), row.frame.describe()] for row in rows]
    if len(steps) <= MOST_COLUMNS:
        lines = [head + line for head, line in zip(heads, cells, strict=True)]
        return Table.of(["picture", "content", *columns], lines, caption)
    by_gauge = [figures(values) for values in zip(*cells, strict=True)]
    lines = [[one.heading, *line] for one, line in zip(columns, by_gauge, strict=True)]
    names = [name for name, _ in heads]
    return Table.of(
        ["gauge", *names], lines, caption, families=families_of([step.method for step in steps])
    )


def _check_names(pictures: list[Path]) -> None:
    """Curves are named after the pictures: no two may have one name."""
    stems = [path.stem for path in pictures]
    for stem in stems:
        if stems.count(stem) > 1:
            raise InputError(f"--curves: two pictures are called {stem}; gauge them in turn")


def _write_curves(picture: Picture, path: Path, folder: Path) -> None:
    """Noise over signal and the transfer of an edge, each as CSV, both as a figure."""
    from magnetite.core.operations.gauge import gauge_curves
    from magnetite.files.atomic import make_folder, write_bytes
    from magnetite.views.gauges import curves_figure
    from magnetite.views.style import save

    make_folder(folder)
    noise, mtf, drawn = every = [folder / f"{path.stem}{end}" for end in _CURVE_FILES]
    made = gauge_curves(picture)
    written = []
    if made.noise is not None:
        text = csv_text(["signal", "sd", "samples"], list(zip(*made.noise, strict=True)))
        write_bytes(noise, text.encode())
        written.append(noise)
    if made.edge is not None:
        points = list(zip(made.edge.frequency, made.edge.mtf, strict=True))
        write_bytes(mtf, csv_text(["cycles per px", "mtf"], points).encode())
        written.append(mtf)
    for remark in made.remarks:
        note(remark)
    if written:
        save(curves_figure(made, path.name), drawn)
        note(f"wrote the curves of {path} to {folder}")
        written.append(drawn)
    note_earlier(every, written)
