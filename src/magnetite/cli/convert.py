"""`magnetite convert`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.larger import in_bands_or_whole, larger_than_memory
from magnetite.cli.options import (
    FullScaleOption,
    StepsArgument,
    limits,
    load,
    note,
    protect,
)
from magnetite.cli.output import say, say_done


def run(
    source: Annotated[Path, typer.Argument(metavar="IN", help="Picture to convert.")],
    out: Annotated[Path, typer.Argument(metavar="OUT", help="Picture to write.")],
    steps: StepsArgument,
    full_scale: FullScaleOption = None,
) -> None:
    from magnetite import convert
    from magnetite.core.chain.notation import parse_chain
    from magnetite.files.writing import check_output, write

    chain = parse_chain(steps, "conversion")
    protect([source], [out])
    if large := larger_than_memory(source, full_scale=full_scale):
        from magnetite.core.verbs.banded import converted_rows
        from magnetite.files.rows import write_rows

        rows = large[0]
        made = in_bands_or_whole(rows.frame, lambda: converted_rows(rows, chain, limits.memory))
        if made is not None:
            write_rows(out, *made)
            say(f"{source.name}, {rows.frame.describe()}: {chain}")
            say_done(f"wrote {out}, {made[0].describe()}")
            return
    picture = load(source, full_scale)
    converted = convert(picture, chain)
    check_output(converted, out)
    for message in write(converted, out):
        note(message)
    say(f"{source.name}, {picture.describe()}: {chain}")
    say_done(f"wrote {out}, {converted.describe()}")
