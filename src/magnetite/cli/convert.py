"""`magnetite convert`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.larger import fits, in_bands_or_whole, larger_than_memory
from magnetite.cli.options import (
    FullScaleOption,
    StepsArgument,
    limits,
    load,
    note,
    protect,
)
from magnetite.cli.output import say, say_done

if TYPE_CHECKING:
    from magnetite.core.chain.step import Chain
    from magnetite.core.picture import Frame, Picture


def run(
    source: Annotated[Path, typer.Argument(metavar="IN", help="Picture to convert.")],
    out: Annotated[Path, typer.Argument(metavar="OUT", help="Picture to write.")],
    steps: StepsArgument,
    full_scale: FullScaleOption = None,
) -> None:
    from magnetite import convert
    from magnetite.core.chain.notation import parse_chain

    chain = parse_chain(steps, "conversion")
    protect([source], [out])
    if large := larger_than_memory(source, full_scale=full_scale):
        from magnetite.core.operations.banded import converted_rows
        from magnetite.core.picture.rows import joined
        from magnetite.files.row_access import write_rows

        rows = large[0]
        made = in_bands_or_whole(rows.frame, lambda: converted_rows(rows, chain, limits.memory))
        if made is not None and fits(made[0]):
            _write(source, rows.frame, chain, joined(made[1]), out)
            return
        if made is not None:
            write_rows(out, *made)
            _say(source, rows.frame, chain, out, made[0])
            return
    picture = load(source, full_scale)
    _write(source, picture.frame, chain, convert(picture, chain), out)


def _write(source: Path, frame: Frame, chain: Chain, converted: Picture, out: Path) -> None:
    from magnetite.files.writing import check_output, write

    check_output(converted, out)
    for message in write(converted, out):
        note(message)
    _say(source, frame, chain, out, converted.frame)


def _say(source: Path, frame: Frame, chain: Chain, out: Path, written: Frame) -> None:
    say(f"{source.name}, {frame.describe()}: {chain}")
    say_done(f"wrote {out}, {written.describe()}")
