"""`magnetite raters`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import SeedOption, note, share_of
from magnetite.cli.output import say_done
from magnetite.core.quantities import abbreviated, counted


def run(
    test: Annotated[Path, typer.Argument(metavar="TEST", help="Folder of a test, from ask.")],
    out: Annotated[Path, typer.Argument(metavar="FOLDER", help="Gets a file for each rater.")],
    count: Annotated[int, typer.Option(help="Raters.", min=1, max=10_000)] = 20,
    random: Annotated[int, typer.Option(help="Of them, as many answer at random.", min=0)] = 0,
    lapse: Annotated[
        str, typer.Option(help="Chance that one of the others does.", metavar="SHARE")
    ] = "2%",
    by: Annotated[
        str | None,
        typer.Option(
            help="Of pairs and ratings: metric that they see, higher for better pictures; ssim "
            "if left out."
        ),
    ] = None,
    threshold: Annotated[
        float | None,
        typer.Option(
            help="Of thresholds: rms difference that they notice, dn of 8 bits; 3 if left out.",
            min=0.01,
            max=255,
        ),
    ] = None,
    seed: SeedOption = 0,
) -> None:
    """Their answers say that they are simulated, and so does every result of them."""
    from magnetite import raters

    written = raters(
        test, out, count=count, random=random, lapse=share_of("--lapse", lapse), by=by,
        threshold=threshold, seed=seed,
    )  # fmt: skip
    if others := sorted(path.name for path in set(out.glob("*.json")).difference(written)):
        note(
            f"{out} holds answers of other raters too, and opinions counts all of a folder: "
            f"{abbreviated(others)}"
        )
    say_done(f"wrote {counted(len(written), 'file')} of simulated raters to {out}")
