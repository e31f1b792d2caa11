"""`magnetite demo`."""

from __future__ import annotations

import sys
import textwrap
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.options import SeedOption, note
from magnetite.cli.output import print_table, say
from magnetite.cli.progress import counted

if TYPE_CHECKING:
    from magnetite.demo.scene import SceneResult


def run(
    folder: Annotated[
        Path, typer.Argument(metavar="[FOLDER]", help="Where to put everything.")
    ] = Path("magnetite-demo"),
    references: Annotated[
        Path | None,
        typer.Option(help="Run on your own pictures in this folder.", metavar="DIR"),
    ] = None,
    seed: SeedOption = 0,
) -> None:
    """Do the whole job once, on made-up scenes or on pictures of your own."""
    from magnetite.demo.story import demo_story, own_story, pieces, prepare_folder, tell

    story = own_story(references) if references else demo_story(seed)
    for message in story.notes:
        note(message)
    prepare_folder(folder)
    with counted("demo", pieces(story)) as advance:
        results, answer = tell(story, folder, seed, advance)
    _print_results(results, answer, folder)


def _print_results(results: list[SceneResult], answer: str, folder: Path) -> None:
    from magnetite.demo.scene import DENOISED, NOISY, READABLE

    print_table(
        [
            "scene", "picture", "activity", f"bpp for SSIM {READABLE:g}",
            "noisy dB", "denoised dB", "denoise first dB",
        ],
        [
            [
                result.name, result.reference.describe(), result.activity,
                result.readable_rate_words, f"{result.score_of(NOISY, 'psnr'):.2f}",
                f"{result.score_of(DENOISED, 'psnr'):.2f}", f"{result.denoising_gain:+.2f}",
            ]
            for result in results
        ],
        "dB: PSNR against the clean picture; denoise first: gain at equal rate; "
        "activity: Laplacian variance, dn² of 8 bits",
    )  # fmt: skip
    say()
    say(textwrap.fill(answer, 96) if sys.stdout.isatty() else answer)
    say(f"\nEverything is in {folder}; begin with {folder / 'WALKTHROUGH.txt'}")
