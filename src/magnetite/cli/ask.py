"""`magnetite ask`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.options import SeedOption, note
from magnetite.cli.output import say, say_done
from magnetite.cli.sizes import picture_size
from magnetite.core.quantities import counted

if TYPE_CHECKING:
    from magnetite.core.opinion.record import BlindTest

#: Half 95 % intervals that numbers of raters are proposed for.
_HALF_GRADE, _HALF_JND = 0.25, 0.25


def run(
    sources: Annotated[
        list[Path],
        typer.Argument(metavar="RUN|PICTURE…", help="Folder of a run, or reference pictures."),
    ],
    design: Annotated[
        str,
        typer.Option(
            help="pairs (which is better), rating (five-level impairment scale) or threshold (from "
            "where on a change is noticed).",
            metavar="DESIGN",
        ),
    ],
    steps: Annotated[
        list[str] | None,
        typer.Option(
            help="Chain for the reference pictures, its settings swept, as in "
            "'jpeg quality=10,30,60'. May be repeated.",
            metavar="CHAIN",
        ),
    ] = None,
    out: Annotated[
        Path, typer.Option(help="Folder to write, a new one.", metavar="FOLDER")
    ] = Path("test"),
    size: Annotated[
        str,
        typer.Option(help="The middle of larger pictures is shown.", metavar="WIDTHxHEIGHT"),
    ] = "480x360",
    repeats: Annotated[
        int | None,
        typer.Option(
            help="How often a pair (2) or picture (1) is shown, or trials of a threshold (40).",
            min=1, max=1000,
        ),
    ] = None,
    pairs: Annotated[
        int | None, typer.Option(help="Pairs of each reference at most; all if left out.", min=1)
    ] = None,
    ties: Annotated[bool, typer.Option("--ties", help="Allow 'no difference'.")] = False,
    with_reference: Annotated[
        bool, typer.Option("--with-reference", help="Show the reference between a pair.")
    ] = False,
    magnification: Annotated[
        int, typer.Option(help="Screen px for each px of a picture.", min=1, max=16)
    ] = 1,
    pixels_per_degree: Annotated[
        float,
        typer.Option(
            help="Px of a picture in a degree of visual angle: gives the viewing distance.",
            min=1, max=1000,
        ),
    ] = 60.0,
    seed: SeedOption = 0,
) -> None:  # fmt: skip
    """The page is one file, needs no network, and is used by the keyboard alone.

    test.json says which picture is which: keep it, and send ask.html.
    """
    from magnetite import ask

    made = ask(
        sources, out, design=design, steps=steps or (), size=picture_size(size),
        repeats=repeats, pairs=pairs, ties=ties, with_reference=with_reference,
        magnification=magnification, pixels_per_degree=pixels_per_degree, seed=seed,
    )  # fmt: skip
    for words in made.notes:
        note(words)
    contents = len(made.test.contents)
    say(
        f"{len(made.test.stimuli)} pictures of {counted(contents, 'reference')}; each "
        f"rater gives {made.answers} answers"
    )
    if proposal := _proposal(made.test):
        say(proposal)
    say_done(f"wrote {made.folder / 'ask.html'} ({made.size / 1e6:.1f} MB) and test.json")


def _proposal(test: BlindTest) -> str:
    """How many raters a wanted interval takes."""
    from magnetite.core.opinion.design import raters_for_pairs, raters_for_rating

    if test.design == "rating":
        return (
            f"for mean opinions within ±{_HALF_GRADE:g} grades (95 %): about "
            f"{raters_for_rating(_HALF_GRADE)} raters, where grades differ as usual"
        )
    if test.design == "pairs":
        content = next(iter(test.contents.values()))
        names = {one.name for one in content}
        own = [pair for pair in test.pairs if pair[0] in names]
        count = raters_for_pairs(own, test.repeats, _HALF_JND)
        return (
            f"for scale values within ±{_HALF_JND:g} JND (95 %): about {count} raters, where "
            "differences are small"
        )
    return ""
