"""`magnetite expand`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import limits, note, protect, rows_of
from magnetite.cli.output import say_done
from magnetite.core.errors import FileError, StreamError


def run(
    source: Annotated[Path, typer.Argument(metavar="IN.mgt", help="Compressed picture.")],
    out: Annotated[Path, typer.Argument(metavar="OUT", help="Picture to write.")],
) -> None:
    from magnetite.core.codecs.layers.container import LONGEST_HEADER, read_header
    from magnetite.core.picture.rows import bands_of
    from magnetite.files.opening import opened
    from magnetite.files.writing import check_format, check_output, write_rows

    protect([source], [out])
    check_format(out)
    with opened(source) as file:
        try:
            read_header(file.read(LONGEST_HEADER))
        except StreamError as error:
            raise FileError(f"{source}: {error}") from None
    picture = rows_of(source, conversion=False)
    check_output(picture.frame, out, banded=not limits.allowance.of(picture).fits(picture.frame))
    for message in write_rows(out, picture.frame, bands_of(picture)):
        note(message)
    say_done(f"wrote {out} ({picture.frame.describe()})")
