"""`magnetite score`."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.options import (
    FormatOption,
    FullScaleOption,
    OutputFormat,
    ReferenceArgument,
    load,
)
from magnetite.cli.output import figure, print_csv, print_json, print_table

if TYPE_CHECKING:
    from magnetite.core.picture import Picture
    from magnetite.core.registry import Method


def run(
    ref: ReferenceArgument,
    tests: Annotated[
        list[Path], typer.Argument(metavar="TEST…", help="Pictures to score, also .mgt files.")
    ],
    metrics: Annotated[
        str, typer.Option(help="Metrics with their settings, as in: psnr,'ssim window=7'.")
    ] = "mse,psnr,ssim",
    gray: Annotated[bool, typer.Option("--gray", help="Score the luma of every picture.")] = False,
    mixed_depths: Annotated[
        bool, typer.Option("--mixed-depths", help="Bring all pictures to the reference's depth.")
    ] = False,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """Score pictures against their reference."""
    from magnetite.core.scoring import parse_metrics, score

    steps = parse_metrics(metrics, "metric")
    reference = load(ref, full_scale)
    reference = reference.luma() if gray else reference
    rows = []
    for path in tests:
        test = load(path, full_scale)
        test = test.luma() if gray else test
        if mixed_depths:
            test = _at_depth_of(reference, test)
        rows.append((path, score(reference, test, metrics)))
    labels = [str(step) for step in steps]
    if format is OutputFormat.json:
        print_json(
            {
                "rows": [
                    {
                        "reference": str(ref),
                        "test": str(path),
                        "identical": scores.identical,
                        "peak": reference.full_scale,
                        "scores": dict(scores),
                    }
                    for path, scores in rows
                ]
            }
        )
    elif format is OutputFormat.csv:
        print_csv(
            ["reference", "test", *labels, "identical"],
            [[str(ref), str(p), *s.values(), str(s.identical).lower()] for p, s in rows],
        )
    else:
        titles = [heading(step.method, str(step)) for step in steps]
        print_table(
            ["test", *titles, ""],
            [[str(p), *s.values(), "identical" if s.identical else ""] for p, s in rows],
            f"reference {ref} ({reference.describe()}); peak {reference.full_scale:g}; "
            "dn are those of 8 bits; ↑ more is better, ↓ less",
        )


def heading(method: Method, label: str | None = None) -> str:
    """Column title of a metric: label, unit, and which way is better."""
    unit = f" {method.traits['unit']}" if method.traits["unit"] else ""
    arrow = {"higher": " ↑", "lower": " ↓", None: ""}[method.traits.get("better")]
    return f"{label or method.name}{unit}{arrow}"


def score_words(reference: Picture, test: Picture) -> str:
    """PSNR, and SSIM where its window fits, in words: `PSNR 34.21 dB, SSIM 0.9312`."""
    from magnetite.core.errors import PictureError
    from magnetite.core.scoring import score

    scores = score(reference, test, "psnr")
    if scores.identical:
        return "identical"
    words = f"PSNR {figure(scores['psnr'])} dB"
    try:
        return f"{words}, SSIM {figure(score(reference, test, 'ssim')['ssim'])}"
    except PictureError:
        return words


def _at_depth_of(reference: Picture, test: Picture) -> Picture:
    """The test picture at the reference's depth."""
    from magnetite.core.picture import as_picture

    if test.bits == reference.bits:
        return test
    blank = replace(as_picture(test.pixels()), colour=test.colour, origin=test.origin)
    if reference.bits is None:
        return blank
    like = replace(reference, samples=reference.samples, origin=test.origin)
    return like.with_pixels(test.pixels())[0]
