"""Options and checks that several commands share."""

from __future__ import annotations

import sys
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.core.errors import FileError

if TYPE_CHECKING:
    from magnetite.core.picture import Picture


class OutputFormat(StrEnum):
    """How results are printed."""

    table = "table"
    json = "json"
    csv = "csv"


FormatOption = Annotated[
    OutputFormat,
    typer.Option("--format", help="table for people, json or csv for programs.", metavar="FORMAT"),
]
FullScaleOption = Annotated[
    float | None,
    typer.Option(
        help="Sample value that means full scale, where the files do not say: "
        "4095 for 12 bits in a 16-bit file, 255 for float samples on 0..255.",
        metavar="VALUE",
    ),
]
RegionOption = Annotated[
    str | None,
    typer.Option(
        help="Part of the picture, in px, as in 120,80,64x48.", metavar="LEFT,TOP,WIDTHxHEIGHT"
    ),
]
SeedOption = Annotated[int, typer.Option(help="Same seed, same noise.", metavar="N")]
ReferenceArgument = Annotated[Path, typer.Argument(metavar="REF", help="Reference picture.")]
StepsArgument = Annotated[
    list[str],
    typer.Argument(metavar="STEPS…", help="Chain: name key=value … + name key=value …"),
]


def note(message: str) -> None:
    """Say something to the user, beside the results."""
    print(f"note: {message}", file=sys.stderr)


def load(path: Path, full_scale: float | None = None) -> Picture:
    """Read a picture and pass on what was done to it on reading."""
    from magnetite.files.reading import read

    picture = read(path, full_scale=full_scale)
    for message in picture.notes:
        note(f"{path}: {message}")
    return picture


def protect(inputs: list[Path], outputs: list[Path]) -> None:
    """Raise `FileError` if an output would replace an input."""
    for output in outputs:
        for source in inputs:
            if source.exists() and output.exists() and output.samefile(source):
                raise FileError(f"{output}: would replace the input {source}; name another file")
