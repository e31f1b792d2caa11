"""`magnetite curve`."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.options import (
    FullScaleOption,
    limits,
    load_distinct,
    note,
    note_earlier,
    protect,
)
from magnetite.cli.output import print_table, say, say_done
from magnetite.cli.progress import cells_done
from magnetite.core.errors import InputError
from magnetite.core.quantities import figure
from magnetite.core.table import Table
from magnetite.files.tables import csv_text

if TYPE_CHECKING:
    from collections.abc import Iterable

    from magnetite.core.chain.step import Step
    from magnetite.core.curves.study import Comparison, Curves, RateRow
    from magnetite.core.operations.aim import Target
    from magnetite.core.operations.selection import Selection
    from magnetite.core.picture import Picture
    from magnetite.core.picture.region import Region


def run(
    references: Annotated[
        list[Path], typer.Argument(metavar="REF…", help="Reference pictures, a curve for each.")
    ],
    codec: Annotated[
        list[str],
        typer.Option(
            help="Codec with a sweep, as in: 'dct step=4dn,8dn,16dn'; without one, points evenly "
            "in rate. Each value of another setting has its own curve. May be repeated; the "
            "others are compared with the first.",
            metavar="STEP",
        ),
    ],
    metrics: Annotated[
        str, typer.Option("--metrics", "--metric", help="Metrics, curve_codecs by commas.")
    ] = "psnr,ssim",
    at: Annotated[
        list[str] | None,
        typer.Option(
            help="Also give the rate of each codec at a score, as in: ssim=0.95. May be repeated.",
            metavar="METRIC=VALUE",
        ),
    ] = None,
    out: Annotated[
        Path | None,
        typer.Option(
            help="Folder for scores.csv, comparison.csv, rates.csv, curve.png and crops.png. "
            "Points that it holds already are not computed again.",
            metavar="FOLDER",
        ),
    ] = None,
    crop: Annotated[
        str | None,
        typer.Option(
            help="Part that crops.png enlarges, in px, as in 120,80,64x48; the busiest if left "
            "out.",
            metavar="LEFT,TOP,WIDTHxHEIGHT",
        ),
    ] = None,
    workers: Annotated[
        int | None,
        typer.Option(
            help="Processes; one for each core if left out, and none for small pictures.",
            min=1,
            max=256,
        ),
    ] = None,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    from magnetite.core.codecs.yardsticks import library_of, stated
    from magnetite.core.compute.threads import cores
    from magnetite.core.curves.points import curve_codecs
    from magnetite.core.picture.region import Region
    from magnetite.experiment.curves import CurveJob, curves_of
    from magnetite.experiment.executors import Threads
    from magnetite.experiment.tasks import Source

    wanted = [_score_of(text) for text in at or ()]
    measures = _metrics(metrics, [target.step for target in wanted])
    region = None if crop is None else Region.parse(crop)
    if region is not None and out is None:
        raise InputError("--crop is the part that crops.png enlarges: name its folder with --out")
    if len(set(references)) < len(references):
        raise InputError("a reference is named twice")
    codecs = curve_codecs(codec)
    if out is not None:
        protect(references, [out / name for name in _FILES])
    references, pictures = map(list, zip(*load_distinct(references, full_scale), strict=True))
    if region is not None:
        region.crop(pictures[0])
    sources = [Source(str(path.resolve()), limits.conversion, full_scale) for path in references]
    job = CurveJob(sources, tuple(codecs), measures, base=os.getcwd(), targets=tuple(wanted))
    with (
        tempfile.TemporaryDirectory(prefix="magnetite-") as scratch,
        cells_done("curve") as listener,
    ):
        executor = Threads(workers or cores())
        folder = out or Path(scratch)
        names = [str(path) for path in references]
        curves, notes = curves_of(job, names, folder, executor, listener)
    for text in notes:
        note(text)
    if curves.known:
        note(f"{curves.known} of {len(curves.results)} points taken from {out}")
    comparisons, reasons = curves.comparisons()
    steps = dict.fromkeys(result.point.step for result in curves.results)
    for reason in reasons:
        note(reason)
    for words in dict.fromkeys(stated(step, of) for step in steps if (of := library_of(step))):
        note(words)
    rates = [row for at in wanted for row in curves.rates_at(str(at.step), at.value)]
    _print(format, curves, comparisons, rates)
    if out is not None:
        written = _write(out, curves, pictures[0], region, comparisons, rates)
        if format is OutputFormat.table:
            say_done(f"wrote {', '.join(map(str, written))}")


_FILES = ("scores.csv", "comparison.csv", "rates.csv", "curve.png", "crops.png")


def _score_of(text: str) -> Target:
    """Read `ssim=0.95`."""
    from magnetite.core.errors import ChainError
    from magnetite.core.operations.aim import Target

    target = Target.parse(text)
    if target.step.kind != "metric" or target.sense != "=":
        raise ChainError(f"--at {text}: write METRIC=VALUE with a metric, as in ssim=0.95")
    return target


def _metrics(text: str, more: Iterable[Step]) -> Selection:
    """The metrics listed, and those that rates are asked for."""
    from magnetite.core.operations.selection import Selection, selected

    listed = selected(text, "metric")
    return Selection(tuple(dict.fromkeys([*listed, *more])), listed.every)


def _print(
    format: OutputFormat, curves: Curves, comparisons: list[Comparison], rates: list[RateRow]
) -> None:
    table = curves.table()

    def people() -> None:
        titles = ["reference", "activity dn", "codec", "bpp", "bytes", *curves.metrics]
        print_table(Table.of(titles, table.rows))
        _print_comparisons(comparisons)
        _print_rates(rates)

    document = {
        "rows": table.records(),
        "comparisons": [row._asdict() for row in comparisons],
        "rates": [row._asdict() for row in rates],
    }
    emit(format, Output([table], document, people))


def _print_comparisons(rows: list[Comparison]) -> None:
    if not rows:
        return
    say()
    print_table(
        Table.of(
            [
                "reference",
                "metric",
                "against",
                "codec",
                "BD-rate %",
                "from",
                "to",
                "BD-quality",
                "overlap %",
            ],
            [
                [
                    *row[:4],
                    _percent(row.bd_rate),
                    _percent(row.bd_rate_low),
                    _percent(row.bd_rate_high),
                    row.bd_quality,
                    _percent(row.overlap),
                ]
                for row in rows
            ],
            "BD-rate: mean rate at equal score (below 0 is better), over pictures geometric; from, "
            "to: by other interpolations and without one point, over pictures the 95 % interval; "
            "means are over the pictures on which all codecs have the figure; "
            "BD-quality: mean score at equal rate, in the metric's unit; – not known",
        )
    )
    for row in rows:
        if row.rate_pictures is not None:
            say(f"  {row.codec}, {row.metric}: {_mean_words(row)}")


def _mean_words(row: Comparison) -> str:
    """Means over pictures with their intervals and numbers, in words."""
    parts = []
    for name, value, ends, count, unit in (
        ("BD-rate", _percent(row.bd_rate),
         (_percent(row.bd_rate_low), _percent(row.bd_rate_high)), row.rate_pictures, " %"),
        ("BD-quality", row.bd_quality, (row.bd_quality_low, row.bd_quality_high),
         row.quality_pictures, ""),
    ):  # fmt: skip
        if value is None:
            parts.append(f"no picture has a {name} for all codecs")
            continue
        low, high = ends
        reach = "one picture has no interval" if low is None or high is None else (
            f"95 % {figure(low)} to {figure(high)}{unit}")  # fmt: skip
        parts.append(f"{name} {figure(value)}{unit} ({reach}, over {count})")
    return "; ".join(parts)


def _print_rates(rows: list[RateRow]) -> None:
    if not rows:
        return
    say()
    print_table(
        Table.of(
            [
                "reference",
                "at",
                "codec",
                "bpp",
                "against the first %",
                "95 % from",
                "to",
                "pictures",
            ],
            [
                [
                    r.reference,
                    f"{r.metric}={r.score:g}",
                    r.codec,
                    r.bpp,
                    _percent(r.against_first),
                    _percent(r.against_low),
                    _percent(r.against_high),
                    r.pictures,
                ]
                for r in rows
            ],
            "interpolated between the points of each curve, as for BD-rate; means are geometric, "
            "over the pictures on which all codecs reach the score; – outside the scores that were "
            "measured",
        )
    )


def _percent(share: float | None) -> float | None:
    return None if share is None else 100 * share


def _write(
    out: Path,
    curves: Curves,
    picture: Picture,
    region: Region | None,
    comparisons: list[Comparison],
    rates: list[RateRow],
) -> list[Path]:
    """Tables and figures; the files that were written, the points among them."""
    from magnetite.files.atomic import write_bytes
    from magnetite.views.curves import curves_figure
    from magnetite.views.style import save

    written = [out / "scores.csv"]
    for name, rows in (("comparison.csv", comparisons), ("rates.csv", rates)):
        if rows:
            text = csv_text(rows[0]._fields, rows)
            write_bytes(out / name, text.encode(errors="backslashreplace"))
            written.append(out / name)
    save(curves_figure(curves), out / "curve.png")
    written.append(out / "curve.png")
    if picture.colour != "planes":
        try:
            _draw_crops(curves, picture, region, out / "crops.png")
            written.append(out / "crops.png")
        except InputError as error:
            note(f"no crops at one rate: {error}")
    note_earlier([out / name for name in _FILES], written)
    return written


def _draw_crops(curves: Curves, picture: Picture, region: Region | None, target: Path) -> None:
    """The first picture by all codecs, at one rate within the reach of all: whole and a part."""
    from magnetite.cli.score_output import score_words
    from magnetite.views.sheet import busiest, sheet
    from magnetite.views.style import save

    rate, coded = curves.at_equal_rate(picture)
    pictures, titles = [picture], [f"reference\nthe others: at most {rate:.3g} bpp"]
    for codec, made in zip(curves.codecs, coded, strict=True):
        if made is None:
            note(f"{codec} has no file of about {rate:.3g} bpp: it is not among the crops")
            continue
        pictures.append(made.picture)
        words = score_words(picture, made.picture)
        titles.append(f"{made.step}\n{made.bpp:.3g} bpp, {words}")
    save(sheet(pictures, titles, region or busiest(picture)), target)
