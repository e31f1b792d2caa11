"""`magnetite convert`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import FullScaleOption, StepsArgument, load, note, protect
from magnetite.cli.output import say, say_done


def run(
    source: Annotated[Path, typer.Argument(metavar="IN", help="Picture to convert.")],
    out: Annotated[Path, typer.Argument(metavar="OUT", help="Picture to write.")],
    steps: StepsArgument,
    full_scale: FullScaleOption = None,
) -> None:
    """Convert a picture: to gray, one channel, a part of it, another bit depth."""
    from magnetite import convert
    from magnetite.core.chain.notation import parse_chain
    from magnetite.files.writing import check_output, write

    chain = parse_chain(steps, "conversion")
    protect([source], [out])
    picture = load(source, full_scale)
    converted = convert(picture, chain)
    check_output(converted, out)
    for message in write(converted, out):
        note(message)
    say(f"{source.name}, {picture.describe()}: {chain}")
    say_done(f"wrote {out}, {converted.describe()}")
