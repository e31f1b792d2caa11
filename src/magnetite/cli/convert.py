"""`magnetite convert`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import FullScaleOption, StepsArgument, limits, note, protect, rows_of
from magnetite.cli.output import say, say_done


def run(
    source: Annotated[Path, typer.Argument(metavar="IN", help="Picture to convert.")],
    out: Annotated[Path, typer.Argument(metavar="OUT", help="Picture to write.")],
    steps: StepsArgument,
    full_scale: FullScaleOption = None,
) -> None:
    from magnetite.core.chain.notation import parse_chain
    from magnetite.core.operations.convert import converting
    from magnetite.files.writing import check_output, write_rows

    chain = parse_chain(steps, "conversion")
    protect([source], [out])
    picture = rows_of(source, full_scale)
    converted = converting(picture, chain, limits.allowance)
    check_output(
        converted.frame, out, banded=not limits.allowance.of(picture).fits(converted.frame)
    )
    note(converted.note)
    for message in write_rows(out, converted.frame, converted):
        note(message)
    say(f"{source.name}, {picture.frame.describe()}: {chain}")
    say_done(f"wrote {out}, {converted.frame.describe()}")
