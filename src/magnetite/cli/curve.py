"""`magnetite curve`."""

from __future__ import annotations

import math
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.curve_points import Kept, measured
from magnetite.cli.curve_tables import (
    COMPARED,
    RATES,
    Curves,
    better_of,
    compared,
    print_comparisons,
    print_rates,
    rates_at,
)
from magnetite.cli.options import (
    FormatOption,
    FullScaleOption,
    OutputFormat,
    RegionOption,
    load,
    protect,
)
from magnetite.cli.output import Cell, csv_text, print_csv, print_json, print_table, say
from magnetite.core.errors import InputError

if TYPE_CHECKING:
    from magnetite.core.picture import Picture
    from magnetite.core.region import Region
    from magnetite.views.curves import Panel


def run(
    references: Annotated[
        list[Path], typer.Argument(metavar="REF…", help="Reference pictures, a curve for each.")
    ],
    codec: Annotated[
        list[str],
        typer.Option(
            help="Codec with a sweep, as in: 'dct step=4dn,8dn,16dn'; without one, points evenly "
            "in rate. May be repeated; the first is what the others are compared with.",
            metavar="STEP",
        ),
    ],
    metrics: Annotated[
        str, typer.Option("--metrics", "--metric", help="Metrics, separated by commas.")
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
            help="Folder for points.csv, comparison.csv, rates.csv, curve.png and crops.png. "
            "Points that it holds already are not computed again.",
            metavar="FOLDER",
        ),
    ] = None,
    crop: RegionOption = None,
    workers: Annotated[int, typer.Option(help="Points computed at a time.", min=1, max=64)] = 2,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """Draw rate-distortion curves of codecs, at the rates of real files."""
    from magnetite.core.region import Region
    from magnetite.core.scoring import gauge
    from magnetite.files.atomic import make_folder

    wanted = [_score_of(text) for text in at or ()]
    measures = _metrics(metrics, [metric for metric, _ in wanted])
    region = None if crop is None else Region.parse(crop)
    if len(set(references)) < len(references):
        raise InputError("a reference is named twice")
    if out is not None:
        protect(references, [out / name for name in _FILES])
    pictures = [load(path, full_scale) for path in references]
    if region is not None:
        region.crop(pictures[0])
    if out is not None:
        make_folder(out)
    activity = [
        gauge(picture, "activity")["activity"] if picture.colour != "planes" else None
        for picture in pictures
    ]
    kept = Kept(out / "points.csv" if out else None, references, pictures, activity, measures)
    results = measured(references, pictures, codec, kept, workers)
    curves = Curves(results, references, codec)
    rows: list[list[Cell]] = [
        [str(references[r.reference]), activity[r.reference], r.point.step, r.point.bpp,
         r.point.bytes, *(r.point.scores[m] for m in measures)]
        for r in results
    ]  # fmt: skip
    comparisons = compared(curves, measures)
    rates = [line for metric, score in wanted for line in rates_at(curves, metric, score)]
    _print(format, measures, rows, comparisons, rates)
    if out is not None:
        written = _write(out, curves, measures, pictures[0], region, comparisons, rates)
        if format is OutputFormat.table:
            say(f"wrote {', '.join(map(str, written))}")


_FILES = ("points.csv", "comparison.csv", "rates.csv", "curve.png", "crops.png")


def _score_of(text: str) -> tuple[str, float]:
    """Read `ssim=0.95`."""
    from magnetite.core.aim import Target
    from magnetite.core.errors import ChainError

    target = Target.parse(text)
    if target.step.method.kind != "metric" or target.sense != "=":
        raise ChainError(f"--at {text}: write METRIC=VALUE with a metric, as in ssim=0.95")
    return str(target.step), target.value


def _metrics(text: str, more: list[str]) -> list[str]:
    """Canonical texts of the metrics listed, and of those that rates are asked for."""
    from magnetite.core.scoring import parse_metrics

    return list(dict.fromkeys([*(str(m) for m in parse_metrics(text, "metric")), *more]))


def _print(
    format: OutputFormat,
    metrics: list[str],
    rows: list[list[Cell]],
    comparisons: list[list[Cell]],
    rates: list[list[Cell]],
) -> None:
    if format is OutputFormat.json:
        keys = ("reference", "activity", "codec", "bpp", "bytes")
        print_json(
            {
                "rows": [
                    dict(zip(keys, row, strict=False))
                    | {"scores": dict(zip(metrics, row[len(keys) :], strict=True))}
                    for row in rows
                ],
                "comparisons": [dict(zip(COMPARED, line, strict=True)) for line in comparisons],
                "rates": [dict(zip(RATES, line, strict=True)) for line in rates],
            }
        )
        return
    titles = ["reference", "activity dn", "codec", "bpp", "bytes", *metrics]
    if format is OutputFormat.csv:
        print_csv(titles, rows)
        return
    print_table(titles, rows)
    print_comparisons(comparisons)
    print_rates(rates)


def _write(
    out: Path,
    curves: Curves,
    metrics: list[str],
    picture: Picture,
    region: Region | None,
    comparisons: list[list[Cell]],
    rates: list[list[Cell]],
) -> list[Path]:
    """Tables and figures; the files that were written, the points among them."""
    from magnetite.files.atomic import write_bytes
    from magnetite.views.curves import rate_distortion
    from magnetite.views.style import save

    written = [out / "points.csv"]
    for name, titles, lines in (
        ("comparison.csv", COMPARED, comparisons),
        ("rates.csv", RATES, rates),
    ):
        if lines:
            write_bytes(out / name, csv_text(titles, lines).encode(errors="backslashreplace"))
            written.append(out / name)
    panels = [_panel(curves, metric) for metric in metrics]
    save(rate_distortion(panels, _title(curves)), out / "curve.png")
    written.append(out / "curve.png")
    if picture.colour != "planes":
        _draw_crops(curves, picture, region, out / "crops.png")
        written.append(out / "crops.png")
    return written


def _title(curves: Curves) -> str:
    count = len(curves.references)
    of = curves.references[0].name if count == 1 else f"{count} pictures, thin, and their mean"
    return f"Rate-distortion curves of {of}"


def _panel(curves: Curves, metric: str) -> Panel:
    """A colour for each codec: thin lines of single pictures, the named line their mean."""
    from magnetite.core.chain import parse_step
    from magnetite.core.curves import hull, mean_curve
    from magnetite.core.declarations import Metric
    from magnetite.views.curves import Line, Panel

    single = len(curves.references) == 1
    lines = []
    for number, codec in enumerate(curves.codecs):
        own = [curves.points(k, number, metric) for k in range(len(curves.references))]
        if single:
            lines.append(Line(codec, own[0], number))
            continue
        lines += [Line("", points, number, faint=True) for points in own]
        with suppress(InputError):  # too few points for a mean
            lines.append(Line(codec, mean_curve(own), number, marked=False))
    best: list[tuple[float, float]] = []
    if single and better_of(metric) == "higher":
        with suppress(InputError):  # too few points, or all alike
            best = hull([p for line in lines for p in line.points])
    unit = parse_step(metric, "metric").declared(Metric).unit
    return Panel(f"{metric} ({unit})" if unit else metric, lines, hull=best)


def _draw_crops(curves: Curves, picture: Picture, region: Region | None, target: Path) -> None:
    """The first picture by all codecs, at one rate within the reach of all: whole and a part."""
    from magnetite.cli.score_output import score_words
    from magnetite.core.sweeps import at_rate
    from magnetite.views.sheet import busiest, sheet
    from magnetite.views.style import save

    reach = [
        [r.point for r in curves.results if (r.reference, r.codec) == (0, n)]
        for n in range(len(curves.codecs))
    ]
    low, high = max(points[0].bpp for points in reach), min(points[-1].bpp for points in reach)
    rate = math.sqrt(low * high)
    pictures, titles = [picture], [f"reference\nall at {rate:.3g} bpp"]
    for points in reach:
        nearest = min(points, key=lambda p: abs(math.log(p.bpp / rate)))
        made = at_rate(picture, nearest.step, rate)
        if made is not None:
            pictures.append(made.picture)
            scores = score_words(picture, made.picture)
            titles.append(f"{made.step}\n{made.bpp:.3g} bpp, {scores}")
    save(sheet(pictures, titles, region or busiest(picture)), target)
