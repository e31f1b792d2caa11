"""`magnetite view`: pictures to look at."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import FullScaleOption, load, protect
from magnetite.cli.score import score_words

app = typer.Typer(help="Draw pictures to look at.", no_args_is_help=True, rich_markup_mode="rich")


@app.callback()
def _group() -> None:
    pass


@app.command("sheet")
def sheet_command(
    pictures: Annotated[
        list[Path], typer.Argument(metavar="PICTURE…", help="Pictures, also .mgt files.")
    ],
    out: Annotated[
        Path, typer.Option(help="Figure to write: .png, .svg or .pdf.", metavar="FIGURE")
    ] = Path("sheet.png"),
    crop: Annotated[
        str | None,
        typer.Option(
            help="Region shown enlarged below each, in px, as in 120,80,64x48.",
            metavar="LEFT,TOP,WIDTHxHEIGHT",
        ),
    ] = None,
    reference: Annotated[
        Path | None,
        typer.Option(help="Picture to score the others against, in their titles.", metavar="REF"),
    ] = None,
    full_scale: FullScaleOption = None,
) -> None:
    """Show pictures side by side at one scale, with a zoomed crop of the same place in each."""
    from magnetite.views.sheet import Crop, sheet
    from magnetite.views.style import check_figure_path, save

    protect([*pictures, *([reference] if reference else [])], [out])
    check_figure_path(out)
    region = Crop.parse(crop) if crop else None
    loaded = [load(path, full_scale) for path in pictures]
    titles = [f"{path.name}\n{p.describe()}" for path, p in zip(pictures, loaded, strict=True)]
    if reference is not None:
        clean = load(reference, full_scale)
        titles = [
            f"{path.name}\n"
            f"{'reference' if path.samefile(reference) else score_words(clean, picture)}"
            for path, picture in zip(pictures, loaded, strict=True)
        ]
    save(sheet(loaded, titles, region), out)
    print(f"wrote {out}")
