"""`magnetite demo`."""

from __future__ import annotations

import sys
import textwrap
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.options import SeedOption, note
from magnetite.cli.output import print_table, say
from magnetite.cli.progress import cells_done, parts_done
from magnetite.core.table import Table

if TYPE_CHECKING:
    from magnetite.demo.story import Told


def run(
    folder: Annotated[
        Path, typer.Argument(metavar="[FOLDER]", help="Where to put everything.")
    ] = Path("magnetite-demo"),
    references: Annotated[
        Path | None, typer.Option(help="Run on your own pictures in this folder.", metavar="DIR")
    ] = None,
    seed: SeedOption = 0,
    workers: Annotated[
        int | None, typer.Option(help="Processes; one for each core if left out.", min=1, max=256)
    ] = None,
) -> None:
    from magnetite.core.operations.prepare import prepare
    from magnetite.demo import cameras, people
    from magnetite.demo.plan import METHODS
    from magnetite.demo.story import check_folder, demo_story, own_story, prepare_folder, tell_story

    check_folder(folder)
    story = own_story(references) if references else demo_story(seed)
    for message in story.notes:
        note(message)
    prepare_folder(folder)
    with parts_done("compiling") as compiled:
        prepare(
            METHODS | (cameras.METHODS | people.METHODS if story.tiles else set()),
            workers,
            compiled,
        )
    with cells_done("demo") as listener:
        told = tell_story(story, folder, seed, workers, listener)
    _print(told, folder)


def _print(told: Told, folder: Path) -> None:
    from magnetite.demo.plan import NOISES, READABLE

    print_table(Table.of(
        ["scene", "size", "activity", f"bpp for SSIM {READABLE:g}",
         *(f"{noise}, best first" for noise in NOISES)],
        [
            [r.name, r.size, r.activity, r.readable_rate_words,
             *("{} {:+.2f} dB".format(*r.best(noise)) for noise in NOISES)]
            for r in told.results
        ],
        "activity: mean step between neighbours, dn of 8 bits; dB: PSNR gained at equal rate by "
        "that denoiser before coding",
    ))  # fmt: skip
    for paragraph in told.answer:
        say()
        say(textwrap.fill(paragraph, 96) if sys.stdout.isatty() else paragraph)
    failed = f", {told.failed} failed" if told.failed else ""
    say(f"\n{told.rows} rows{failed}, in {told.seconds:.0f} s")
    say(f"Everything is in {folder}; open {folder / 'report.html'}, or begin with WALKTHROUGH.txt")
