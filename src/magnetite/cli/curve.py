"""`magnetite curve`."""

from __future__ import annotations

import math
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.curve_points import Kept, Result, measured
from magnetite.cli.options import FormatOption, FullScaleOption, OutputFormat, RegionOption, load
from magnetite.cli.output import Cell, csv_text, print_csv, print_json, print_table
from magnetite.core.errors import InputError

if TYPE_CHECKING:
    from magnetite.core.picture import Picture
    from magnetite.core.region import Region


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
    metric: Annotated[str, typer.Option(help="Metrics, separated by commas.")] = "psnr,ssim",
    out: Annotated[
        Path | None,
        typer.Option(
            help="Folder for points.csv, comparison.csv, curve.png and crops.png. Points that it "
            "holds already are not worked out again.",
            metavar="FOLDER",
        ),
    ] = None,
    crop: RegionOption = None,
    workers: Annotated[int, typer.Option(help="Points worked on at a time.", min=1, max=64)] = 2,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """Draw rate-distortion curves of codecs, at the rates of real files."""
    from magnetite.core.region import Region
    from magnetite.core.scoring import gauge, parse_metrics
    from magnetite.files.atomic import make_folder, write_bytes

    metrics = [str(m) for m in parse_metrics(metric, "metric")]
    region = Region.parse(crop) if crop else None
    pictures = [load(path, full_scale) for path in references]
    if len(set(references)) < len(references):
        raise InputError("a reference is named twice")
    if region is not None:
        region.crop(pictures[0])
    if out is not None:
        make_folder(out)
    activity = [
        gauge(picture, "activity")["activity"] if picture.colour != "planes" else None
        for picture in pictures
    ]
    kept = Kept(out / "points.csv" if out else None, references, pictures, activity, metrics)
    results = measured(references, pictures, codec, kept, workers)
    titles = ["reference", "activity dn", "codec", "bpp", "bytes", *metrics]
    rows = [
        [str(references[r.reference]), activity[r.reference], r.point.step, r.point.bpp,
         r.point.bytes, *r.point.scores.values()]
        for r in results
    ]  # fmt: skip
    comparisons = _compared(results, references, codec, metrics)
    if out is not None and comparisons:
        write_bytes(out / "comparison.csv", csv_text(_COMPARED, comparisons).encode())
    if format is OutputFormat.json:
        keys = ("reference", "activity", "codec", "bpp", "bytes")
        print_json(
            {
                "rows": [
                    dict(zip(keys, row, strict=False)) | {"scores": r.point.scores}
                    for row, r in zip(rows, results, strict=True)
                ],
                "comparisons": [dict(zip(_COMPARED, line, strict=True)) for line in comparisons],
            }
        )
    elif format is OutputFormat.csv:
        print_csv(kept.titles, kept.rows(results))
    else:
        print_table(titles, rows)
        _print_comparisons(comparisons)
    if out is not None:
        _draw(results, references, codec, metrics, out / "curve.png")
        _draw_crops(results, pictures[0], codec, region, out / "crops.png")
        if format is OutputFormat.table:
            print(f"wrote {', '.join(sorted(str(path) for path in out.iterdir()))}")


_COMPARED = ("reference", "metric", "anchor", "codec", "bd_rate", "bd_quality", "overlap")


def _compared(
    results: list[Result], paths: list[Path], codecs: list[str], metrics: list[str]
) -> list[list[Cell]]:
    """Each codec against the first, picture by picture, then the mean over all of them."""
    from magnetite.core.curves import compare

    lines: list[list[Cell]] = []
    for metric in metrics:
        for other in range(1, len(codecs)):
            own: list[list[Cell]] = []
            for number, path in enumerate(paths):
                one, two = (_points(results, number, codec, metric) for codec in (0, other))
                found = compare(one, two)
                figures = [found.bd_rate, found.bd_quality, found.overlap]
                own.append([str(path), metric, codecs[0], codecs[other], *figures])
            lines += own
            if len(paths) > 1:
                means = [_mean([line[k] for line in own]) for k in (4, 5, 6)]
                lines.append(["mean", metric, codecs[0], codecs[other], *means])
    return lines


def _points(
    results: list[Result], reference: int, codec: int, metric: str
) -> list[tuple[float, float]]:
    """Rate and score of one codec's points on one picture."""
    return [
        (r.point.bpp, r.point.scores[metric])
        for r in results
        if (r.reference, r.codec) == (reference, codec)
    ]


def _mean(values: list[Cell]) -> float | None:
    known = [value for value in values if isinstance(value, float)]
    return sum(known) / len(known) if len(known) == len(values) else None


def _print_comparisons(lines: list[list[Cell]]) -> None:
    if not lines:
        return
    shown = [
        [*line[:4], *(None if not isinstance(v, float) else 100 * v for v in (line[4],)), line[5],
         None if not isinstance(line[6], float) else 100 * line[6]]
        for line in lines
    ]  # fmt: skip
    print()
    print_table(
        ["reference", "metric", "against", "codec", "BD-rate %", "BD-quality", "overlap %"], shown,
        "BD-rate: mean rate at equal score (below 0 is better); BD-quality: mean score at equal "
        "rate, in the metric's unit; – overlap below 30 %",
    )  # fmt: skip


def _draw(
    results: list[Result], paths: list[Path], codecs: list[str], metrics: list[str], target: Path
) -> None:
    """A colour for each reference, a line style for each codec; the fewer are named alone."""
    from magnetite.core.chain import parse_step
    from magnetite.core.curves import hull
    from magnetite.core.registry import find
    from magnetite.views.curves import Line, Panel, rate_distortion
    from magnetite.views.style import save

    single = len(paths) == 1
    panels = []
    for metric in metrics:
        lines = []
        for colour, reference in enumerate(paths):
            for style, codec in enumerate(codecs):
                names = [reference.stem] * (not single) + [codec] * (len(codecs) > 1)
                label = " ".join(names) or reference.stem
                points = _points(results, colour, style, metric)
                lines.append(Line(label, points, style if single else colour, style))
        method = find("metric", parse_step(metric, "metric").method.name)
        assert method is not None
        unit = f" ({method.traits['unit']})" if method.traits["unit"] else ""
        best: list[tuple[float, float]] = []
        if single and method.traits["better"] == "higher":
            with suppress(InputError):  # too few points, or all alike
                best = hull([p for line in lines for p in line.points])
        panels.append(Panel(f"{metric}{unit}", lines, hull=best))
    save(rate_distortion(panels, "Rate-distortion curves"), target)


def _draw_crops(
    results: list[Result], picture: Picture, codecs: list[str], region: Region | None, target: Path
) -> None:
    """The first picture by all codecs, at one rate within the reach of all: whole and a part."""
    from magnetite.cli.score_output import score_words
    from magnetite.core.sweeps import at_rate
    from magnetite.views.sheet import busiest, sheet
    from magnetite.views.style import save

    if picture.colour == "planes":
        return
    reach = [[r.point for r in results if (r.reference, r.codec) == (0, n)] for n in
             range(len(codecs))]  # fmt: skip
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
