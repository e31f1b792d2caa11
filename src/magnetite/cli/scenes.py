"""`magnetite scenes`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import SeedOption
from magnetite.cli.output import print_table
from magnetite.cli.sizes import picture_size
from magnetite.core.table import Table


def run(
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="Where to write them.")],
    size: Annotated[str, typer.Option(help="Size in px.", metavar="WIDTHxHEIGHT")] = "640x448",
    seed: SeedOption = 0,
) -> None:
    from magnetite.files.atomic import make_folder
    from magnetite.files.writing import write
    from magnetite.synthetic.catalogue import SCENES, make_scenes

    pictures = make_scenes(picture_size(size), seed)
    make_folder(folder)
    rows = []
    for scene, picture in zip(SCENES, pictures, strict=True):
        path = folder / f"{scene.name}.png"
        write(picture, path)
        rows.append([str(path), scene.summary, picture.describe()])
    print_table(Table.of(["scene", "shows", "picture"], rows))
