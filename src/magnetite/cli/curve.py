"""`magnetite curve`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.options import FormatOption, FullScaleOption, OutputFormat, load
from magnetite.cli.output import csv_text, print_csv, print_json, print_table
from magnetite.cli.progress import progress

if TYPE_CHECKING:
    from magnetite.core.curves import Point


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
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """Draw rate-distortion curves of codecs, at the rates of real files."""
    from magnetite.core.curves import point, sweep_steps
    from magnetite.core.scoring import parse_metrics
    from magnetite.files.atomic import make_folder, write_bytes

    metrics = parse_metrics(metric, "metric")
    sweeps = [sweep_steps(text) for text in codec]
    pictures = [load(path, full_scale) for path in references]
    if out is not None:
        make_folder(out)
    titles = ["reference", "codec", "bpp", "bytes", *map(str, metrics)]
    results: list[tuple[Path, int, Point]] = []
    with progress("curve", len(pictures) * sum(map(len, sweeps))) as advance:
        for path, picture in zip(references, pictures, strict=True):
            for number, steps in enumerate(sweeps):
                points = []
                for step in steps:
                    points.append(point(picture, step, metric, picture))
                    advance(f"{path.name}: {step}")
                results += [(path, number, p) for p in sorted(points, key=lambda p: p.bpp)]
    rows = [[str(path), p.step, p.bpp, p.bytes, *p.scores.values()] for path, _, p in results]
    if out is not None:
        write_bytes(out / "points.csv", csv_text(titles, rows).encode())
    if format is OutputFormat.json:
        keys = ("reference", "codec", "bpp", "bytes")
        print_json(
            {
                "rows": [
                    dict(zip(keys, row, strict=False)) | {"scores": p.scores}
                    for row, (_, _, p) in zip(rows, results, strict=True)
                ]
            }
        )
    elif format is OutputFormat.csv:
        print_csv(titles, rows)
    else:
        print_table(titles, rows)
    if out is not None:
        _draw(results, codec, [str(m) for m in metrics], out / "curve.png")
        if format is OutputFormat.table:
            print(f"wrote {out / 'points.csv'} and {out / 'curve.png'}")


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
