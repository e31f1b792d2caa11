"""`magnetite chart`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import SeedOption
from magnetite.cli.output import say, say_done
from magnetite.cli.sizes import picture_size
from magnetite.core.errors import FileError

_PRINTED = (".svg", ".pdf")


def run(
    out: Annotated[
        Path,
        typer.Argument(
            metavar="OUT",
            help="Chart to write: .png or .tif, 16 bits, sRGB; or .pdf or .svg to print. Its "
            "record is a .json file of the same name.",
        ),
    ],
    size: Annotated[str, typer.Option(help="Size in px.", metavar="WIDTHxHEIGHT")] = "2400x1600",
    seed: SeedOption = 0,
) -> None:
    from magnetite import chart
    from magnetite.core.chart.record import as_record
    from magnetite.files.atomic import check_writable
    from magnetite.files.sidecar import write_json
    from magnetite.files.writing import write

    width, height = picture_size(size)
    ending = out.suffix.lower()
    if ending not in (".png", ".tif", ".tiff", *_PRINTED):
        raise FileError(f"{out}: a chart is written as .png, .tif, .svg or .pdf")
    record = out.with_suffix(".json")
    check_writable(record)
    picture, made = chart(width, height, seed)
    if ending in _PRINTED:
        from magnetite.views.chart import printed
        from magnetite.views.style import save

        save(printed(picture), out)
    else:
        write(picture, out)
    write_json(record, as_record(made))
    say(
        f"{picture.describe()}: {4 * len(made.squares)} slanted edges, {len(made.steps)} gray "
        f"steps, {len(made.colours)} colours, {len(made.dots)} dots, {len(made.leaves.disks)} "
        "leaves"
    )
    say_done(f"wrote {out} and {record}")
