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
    RegionOption,
    load,
    note,
)
from magnetite.cli.output import figure, print_csv, print_json, print_table
from magnetite.core.errors import InputError

if TYPE_CHECKING:
    from collections.abc import Mapping

    from magnetite.core.chain import Step
    from magnetite.core.picture import Picture
    from magnetite.core.registry import Method
    from magnetite.core.scoring import Scores

#: Tables of more metrics than this are turned on their side.
MOST_COLUMNS = 6


def run(
    ref: ReferenceArgument,
    tests: Annotated[
        list[Path], typer.Argument(metavar="TEST…", help="Pictures to score, also .mgt files.")
    ],
    metrics: Annotated[
        str,
        typer.Option(
            help="Metrics with their settings, as in: psnr,'ssim window=7'; or all that apply."
        ),
    ] = "mse,psnr,ssim",
    gray: Annotated[bool, typer.Option("--gray", help="Score the luma of every picture.")] = False,
    mixed_depths: Annotated[
        bool, typer.Option("--mixed-depths", help="Bring all pictures to the reference's depth.")
    ] = False,
    region: RegionOption = None,
    crop_border: Annotated[
        int, typer.Option(help="Leave out so many px along every edge.", metavar="PX")
    ] = 0,
    maps: Annotated[
        Path | None,
        typer.Option(
            help="Folder for maps of where each test fails: float TIFF, and a figure of them.",
            metavar="FOLDER",
        ),
    ] = None,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """Score pictures against their reference."""
    from magnetite.core.region import Region
    from magnetite.core.scoring import check_comparable, parse_metrics, score

    if region is not None and crop_border:
        raise InputError("--region and --crop-border exclude each other: name the region alone")
    steps = parse_metrics(metrics, "metric")
    whole = load(ref, full_scale)
    whole = whole.luma() if gray else whole
    part = Region.inside(whole, crop_border)
    if region is not None:
        part = Region.parse(region)
    reference = part.crop(whole)
    if maps is not None:
        _check_names(tests)
    rows = []
    for path in tests:
        test = load(path, full_scale)
        test = test.luma() if gray else test
        if mixed_depths:
            test = _at_depth_of(whole, test)
        check_comparable(whole, test)
        rows.append((path, score(reference, part.crop(test), metrics)))
        if maps is not None:
            _write_maps(reference, part.crop(test), path, maps)
    say_left_out(rows[0][1].left_out)
    steps = [step for step in steps if str(step) in rows[0][1]]
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
        where = "" if part == Region.inside(whole, 0) else f", region {part}"
        _print_scores(
            steps, rows,
            f"reference {ref} ({whole.describe()}{where}); peak {reference.full_scale:g}; "
            "dn are those of 8 bits; ↑ more is better, ↓ less",
        )  # fmt: skip


def _check_names(tests: list[Path]) -> None:
    """Maps are named after the tests: no two may have one name."""
    stems = [path.stem for path in tests]
    for stem in stems:
        if stems.count(stem) > 1:
            raise InputError(f"--maps: two tests are called {stem}; score them in turn")


def _write_maps(reference: Picture, test: Picture, path: Path, folder: Path) -> None:
    """Each map as a float TIFF, all of them as a figure."""
    import numpy as np

    from magnetite.core.metrics.maps import error_maps
    from magnetite.core.picture import as_picture
    from magnetite.files.atomic import make_folder
    from magnetite.files.writing import write
    from magnetite.views.maps import maps_figure
    from magnetite.views.style import save

    made = error_maps(reference, test)
    make_folder(folder)
    for one in made:
        write(as_picture(one.values.astype(np.float32)), folder / f"{path.stem}-{one.name}.tif")
    title = f"{path.name} against {Path(reference.origin).name}: bright where it fails"
    save(maps_figure(made, title), folder / f"{path.stem}-maps.png")
    note(f"wrote {len(made)} maps of {path} to {folder}")


def _print_scores(steps: list[Step], rows: list[tuple[Path, Scores]], caption: str) -> None:
    """A row for each test; where the metrics are many, a row for each of them instead."""
    titles = [heading(step.method, str(step)) for step in steps]
    cells = [_marked(step, [scores[str(step)] for _, scores in rows]) for step in steps]
    if len(rows) > 1:
        caption += "; * the best"
    if len(steps) <= MOST_COLUMNS:
        marks = [["identical" if scores.identical else "" for _, scores in rows]]
        columns = zip(*cells, *marks, strict=True)
        lines = [[str(path), *line] for (path, _), line in zip(rows, columns, strict=True)]
        print_table(["test", *titles, ""], lines, caption)
    else:
        lines = [[title, *line] for title, line in zip(titles, cells, strict=True)]
        print_table(["metric", *(str(path) for path, _ in rows)], lines, caption)


def _marked(step: Step, values: list[float]) -> list[str]:
    """Figures as text, the best of several with a star."""
    best = max(values) if step.method.traits["better"] == "higher" else min(values)
    tells = len(values) > 1 and any(value != best for value in values)
    return [f"{figure(v)}{'*' if v == best else ' '}" if tells else figure(v) for v in values]


def say_left_out(left_out: Mapping[str, str]) -> None:
    """Say why metrics or gauges of `all` do not apply."""
    for label, reason in left_out.items():
        note(f"{label} left out: {reason}")


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
