"""`magnetite gauge`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import FormatOption, FullScaleOption, OutputFormat, load
from magnetite.cli.output import print_csv, print_json, print_table
from magnetite.cli.score import heading


def run(
    pictures: Annotated[list[Path], typer.Argument(metavar="PICTURE…", help="Pictures to gauge.")],
    metrics: Annotated[
        str, typer.Option(help="Gauges with their settings, separated by commas.")
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
    if format is OutputFormat.json:
        print_json({"rows": [{"picture": str(p), "gauges": values} for p, _, values in rows]})
    elif format is OutputFormat.csv:
        print_csv(
            ["picture", *map(str, steps)], [[str(p), *values.values()] for p, _, values in rows]
        )
    else:
        print_table(
            ["picture", "what", *(heading(step.method, str(step)) for step in steps)],
            [[str(p), picture.describe(), *values.values()] for p, picture, values in rows],
            "dn are those of 8 bits, whatever the picture's depth",
        )
