"""`magnetite expand`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import limits, note, protect
from magnetite.cli.output import say_done


def run(
    source: Annotated[Path, typer.Argument(metavar="IN.mgt", help="Compressed picture.")],
    out: Annotated[Path, typer.Argument(metavar="OUT", help="Picture to write.")],
) -> None:
    from magnetite.core.errors import FileError, StreamError
    from magnetite.core.operations.coding import expand
    from magnetite.files.opening import read_bytes
    from magnetite.files.writing import check_format, write

    protect([source], [out])
    check_format(out)
    data = read_bytes(source)
    try:
        picture = expand(data, max_samples=limits.max_samples)
    except StreamError as error:
        raise FileError(f"{source}: {error}") from None
    for message in write(picture, out):
        note(message)
    say_done(f"wrote {out} ({picture.describe()})")
