"""`magnetite curve`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.options import FormatOption, FullScaleOption, OutputFormat, load
from magnetite.cli.output import Cell, csv_text, print_csv, print_json, print_table
from magnetite.cli.progress import progress
from magnetite.core.errors import InputError

if TYPE_CHECKING:
    from magnetite.core.curves import Point
    from magnetite.core.picture import Picture


def run(
    references: Annotated[
        list[Path], typer.Argument(metavar="REF…", help="Reference pictures, a curve for each.")
    ],
    codec: Annotated[
        list[str],
        typer.Option(
            help="Codec with a sweep, as in: 'dct step=4dn,8dn,16dn'; may be repeated.",
            metavar="STEP",
        ),
    ],
    metric: Annotated[str, typer.Option(help="Metrics, separated by commas.")] = "psnr,ssim",
    out: Annotated[
        Path | None, typer.Option(help="Folder for points.csv and curve.png.", metavar="FOLDER")
    ] = None,
    workers: Annotated[int, typer.Option(help="Points worked on at a time.", min=1, max=64)] = 2,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """Draw rate-distortion curves of codecs, at the rates of real files."""
    from magnetite.core.curves import sweep_steps
    from magnetite.core.scoring import gauge, parse_metrics
    from magnetite.files.atomic import make_folder, write_bytes

    metrics = parse_metrics(metric, "metric")
    sweeps = [sweep_steps(text) for text in codec]
    pictures = [load(path, full_scale) for path in references]
    if len(set(references)) < len(references):
        raise InputError("a reference is named twice")
    if out is not None:
        make_folder(out)
    titles = ["reference", "activity dn", "codec", "bpp", "bytes", *map(str, metrics)]
    results = _measured(references, pictures, sweeps, metric, workers)
    activity = {
        path: gauge(picture, "activity")["activity"] if picture.colour != "planes" else None
        for path, picture in zip(references, pictures, strict=True)
    }
    rows = [
        [str(path), activity[path], p.step, p.bpp, p.bytes, *p.scores.values()]
        for path, _, p in results
    ]
    comparisons = _compared(results, codec, [str(m) for m in metrics])
    if out is not None:
        write_bytes(out / "points.csv", csv_text(titles, rows).encode())
        if comparisons:
            write_bytes(out / "comparison.csv", csv_text(_COMPARED, comparisons).encode())
    if format is OutputFormat.json:
        keys = ("reference", "activity", "codec", "bpp", "bytes")
        print_json(
            {
                "rows": [
                    dict(zip(keys, row, strict=False)) | {"scores": p.scores}
                    for row, (_, _, p) in zip(rows, results, strict=True)
                ],
                "comparisons": [dict(zip(_COMPARED, line, strict=True)) for line in comparisons],
            }
        )
    elif format is OutputFormat.csv:
        print_csv(titles, rows)
    else:
        print_table(titles, rows)
        _print_comparisons(comparisons)
    if out is not None:
        _draw(results, codec, [str(m) for m in metrics], out / "curve.png")
        if format is OutputFormat.table:
            print(f"wrote {', '.join(sorted(str(path) for path in out.iterdir()))}")


_COMPARED = ("reference", "metric", "anchor", "codec", "bd_rate", "bd_quality", "overlap")
Result = tuple[Path, int, "Point"]


def _measured(
    paths: list[Path], pictures: list[Picture], sweeps: list[list[str]], metric: str, workers: int
) -> list[Result]:
    """All points, by reference, codec and rate."""
    from concurrent.futures import ThreadPoolExecutor

    from magnetite.core.curves import point

    jobs = [
        (path, number, picture, step)
        for path, picture in zip(paths, pictures, strict=True)
        for number, steps in enumerate(sweeps)
        for step in steps
    ]
    with progress("curve", len(jobs)) as advance:

        def work(job: tuple[Path, int, Picture, str]) -> Result:
            path, number, picture, step = job
            made = point(picture, step, metric, picture)
            advance(f"{path.name}: {step}")
            return path, number, made

        with ThreadPoolExecutor(workers) as pool:
            results = list(pool.map(work, jobs))
    order = {path: place for place, path in enumerate(paths)}
    return sorted(results, key=lambda r: (order[r[0]], r[1], r[2].bpp))


def _compared(results: list[Result], codecs: list[str], metrics: list[str]) -> list[list[Cell]]:
    """Each codec against the first, picture by picture, then the mean over all of them."""
    from magnetite.core.curves import compare

    paths = list(dict.fromkeys(path for path, _, _ in results))
    lines: list[list[Cell]] = []
    for metric in metrics:
        for other in range(1, len(codecs)):
            own: list[list[Cell]] = []
            for path in paths:
                one, two = (
                    [(p.bpp, p.scores[metric]) for r, n, p in results if (r, n) == (path, number)]
                    for number in (0, other)
                )
                found = compare(one, two)
                figures = [found.bd_rate, found.bd_quality, found.overlap]
                own.append([str(path), metric, codecs[0], codecs[other], *figures])
            lines += own
            if len(paths) > 1:
                means = [_mean([line[k] for line in own]) for k in (4, 5, 6)]
                lines.append(["mean", metric, codecs[0], codecs[other], *means])
    return lines


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
    results: list[tuple[Path, int, Point]], codecs: list[str], metrics: list[str], path: Path
) -> None:
    """A colour for each reference, a line style for each codec; the fewer are named alone."""
    from magnetite.core.chain import parse_step
    from magnetite.core.registry import find
    from magnetite.views.curves import Line, Panel, rate_distortion
    from magnetite.views.style import save

    references = list(dict.fromkeys(path for path, _, _ in results))
    panels = []
    for metric in metrics:
        lines = []
        for colour, reference in enumerate(references):
            for style, codec in enumerate(codecs):
                points = [
                    (p.bpp, p.scores[metric])
                    for path, number, p in results
                    if path == reference and number == style
                ]
                names = [reference.stem] * (len(references) > 1) + [codec] * (len(codecs) > 1)
                label = " ".join(names) or reference.stem
                single = len(references) == 1
                lines.append(Line(label, points, style if single else colour, style))
        method = find("metric", parse_step(metric, "metric").method.name)
        unit = f" ({method.traits['unit']})" if method and method.traits["unit"] else ""
        panels.append(Panel(f"{metric}{unit}", lines))
    save(rate_distortion(panels, "Rate-distortion curves"), path)
