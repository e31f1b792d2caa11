"""`magnetite view sweep`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.drawing import FigureOption, ShowOption, begin, finish, pictures_of
from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.options import FullScaleOption, SeedOption, StepsArgument, note
from magnetite.cli.output import print_table
from magnetite.cli.progress import working
from magnetite.core.table import Table

if TYPE_CHECKING:
    from magnetite.core.operations.sweep import Sweep


def run(
    source: Annotated[Path, typer.Argument(metavar="IN", help="Picture to treat.")],
    steps: StepsArgument,
    out: FigureOption = Path("sweep.png"),
    reference: Annotated[
        Path | None,
        typer.Option(help="Clean picture to score against; IN if left out.", metavar="REF"),
    ] = None,
    metrics: Annotated[
        str, typer.Option(help="Scores in the titles, as in psnr,ssim.", metavar="LIST")
    ] = "psnr,ssim",
    crop: Annotated[
        str | None,
        typer.Option(
            help="Region shown enlarged below each, in px, as in 120,80,64x48; where most goes on "
            "if left out.",
            metavar="LEFT,TOP,WIDTHxHEIGHT",
        ),
    ] = None,
    curve: Annotated[
        bool, typer.Option("--curve", help="Draw the scores over the setting as well.")
    ] = False,
    pictures: Annotated[
        Path | None, typer.Option(help="Folder to write every picture to.", metavar="FOLDER")
    ] = None,
    seed: SeedOption = 0,
    show: ShowOption = False,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """Show a picture at several values of one or two settings of a chain.

    STEPS are degradations, then codecs and restorations, with a list or a range as a value:
    dct step=5dn,10dn,20dn. A restoration is scored against --reference.
    """
    from magnetite import sweep
    from magnetite.core.picture.region import Region
    from magnetite.views.sweep_curves import sweep_figure

    begin([source, reference], out, show=show)
    region = None if crop is None else Region.parse(crop)
    picture = pictures_of([source], full_scale)[0]
    clean = None if reference is None else pictures_of([reference], full_scale)[0]
    with working("sweep"):
        made = sweep(picture, steps, reference=clean, metrics=metrics, seed=seed)
    for label, reason in made.left_out.items():
        note(f"{label} left out: {reason}")
    drawn = sweep_figure(made, region, curve=curve)
    _print(made, format)
    if pictures is not None:
        note(f"wrote {_write_pictures(made, pictures)} pictures to {pictures}")
    finish(drawn, out, show=show, on_stderr=format is not OutputFormat.table)


def _print(made: Sweep, format: OutputFormat) -> None:
    table = made.table()

    def people() -> None:
        known = [
            k for k in range(len(table.names)) if any(row[k] is not None for row in table.rows)
        ]
        rows = [[row[k] for k in known] for row in table.rows]
        print_table(Table.of([table.names[k] for k in known], rows))

    emit(format, Output([table], people=people))


def _write_pictures(made: Sweep, folder: Path) -> int:
    """Write every picture, named by its chain; the number of them."""
    from magnetite.files.atomic import make_folder
    from magnetite.files.names import named
    from magnetite.files.writing import lossless_ending, write

    make_folder(folder)
    for number, cell in enumerate(made.cells, 1):
        name = named(f"{number:02} {cell.chain}", lossless_ending(cell.picture))
        write(cell.picture, folder / name)
    return len(made.cells)
