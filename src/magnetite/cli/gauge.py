"""`magnetite gauge`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import FormatOption, FullScaleOption, OutputFormat, load
from magnetite.cli.output import print_csv, print_json, print_table
from magnetite.cli.score import MOST_COLUMNS, heading


def run(
    pictures: Annotated[list[Path], typer.Argument(metavar="PICTURE…", help="Pictures to gauge.")],
    metrics: Annotated[
        str,
        typer.Option(help="Gauges with their settings, separated by commas; or all that apply."),
    ] = "laplacian-variance",
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """Measure pictures without a reference."""
    from magnetite.core.scoring import gauge, parse_metrics

    steps = parse_metrics(metrics, "gauge")
    rows = []
    for path in pictures:
        picture = load(path, full_scale)
        rows.append((path, picture, gauge(picture, metrics)))
    steps = [step for step in steps if any(str(step) in values for _, _, values in rows)]
    labels = [str(step) for step in steps]
    cells = [[values.get(label) for label in labels] for _, _, values in rows]
    if format is OutputFormat.json:
        print_json({"rows": [{"picture": str(p), "gauges": values} for p, _, values in rows]})
    elif format is OutputFormat.csv:
        lines = [[str(path), *line] for (path, _, _), line in zip(rows, cells, strict=True)]
        print_csv(["picture", *labels], lines)
    else:
        titles = [heading(step.method, str(step)) for step in steps]
        caption = "dn are those of 8 bits, whatever the picture's depth; – does not apply"
        heads = [[str(path), picture.describe()] for path, picture, _ in rows]
        if len(steps) <= MOST_COLUMNS:
            lines = [head + line for head, line in zip(heads, cells, strict=True)]
            print_table(["picture", "what", *titles], lines, caption)
        else:
            lines = [[t, *line] for t, line in zip(titles, zip(*cells, strict=True), strict=True)]
            print_table(["gauge", *(name for name, _ in heads)], lines, caption)
