"""`magnetite calibrate`: measure a camera, and print the step that does the same."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, cast

import typer

from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.options import FullScaleOption, RegionOption, load, load_distinct, note, protect
from magnetite.cli.output import print_table, say, say_done
from magnetite.core.errors import InputError
from magnetite.core.quantities import figure
from magnetite.core.table import Table

if TYPE_CHECKING:
    from magnetite.core.calibrate.photon_transfer import EstimateRow, PhotonTransfer
    from magnetite.core.chart.result import ChartMeasurement, ChartRow
    from magnetite.core.picture.mosaics import Pattern

app = typer.Typer(no_args_is_help=True, rich_markup_mode="rich")


@app.command("noise")
def noise_command(
    frames: Annotated[
        list[Path],
        typer.Argument(
            metavar="FRAME_A FRAME_B…",
            help="Two or more frames of each still scene or flat field, in any order.",
        ),
    ],
    out: Annotated[
        Path, typer.Option(help="Figure to write: .png, .svg or .pdf.", metavar="FIGURE")
    ] = Path("photon-transfer.png"),
    dark: Annotated[
        list[Path] | None,
        typer.Option(
            help="Frame without light, or a folder of them: they give the black level. May be "
            "repeated.",
            metavar="PATH",
        ),
    ] = None,
    black: Annotated[
        float | None,
        typer.Option(help="Black level, dn, where there are no dark frames.", metavar="LEVEL"),
    ] = None,
    mosaic: Annotated[
        str | None,
        typer.Option(
            help="The frames are raw mosaics of this pattern (rggb, bggr, grbg, gbrg): each colour "
            "is measured on its own.",
            metavar="PATTERN",
        ),
    ] = None,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """Fit gain, read noise and, where the frames allow, row and fixed-pattern noise.

    The frames must be linear (no gamma). Flat fields at two or more levels also give the fixed
    pattern. Without --dark or --black read noise and black level cannot be separated, and the
    intervals say so.
    """
    from magnetite import photon_transfer
    from magnetite.files.pairs import pictures_in
    from magnetite.views.calibration import photon_transfer_figure
    from magnetite.views.style import check_figure_path, save

    darks = [p for path in dark or () for p in (pictures_in(path) if path.is_dir() else [path])]
    protect([*frames, *darks], [out])
    check_figure_path(out)
    pictures, without_light = (
        [load(path, full_scale) for path in paths] for paths in (frames, darks)
    )
    if dark and not darks:
        raise InputError(f"--dark {dark[0]}: the folder holds no picture")
    result = photon_transfer(pictures, without_light, black, pattern=cast("Pattern | None", mosaic))
    save(photon_transfer_figure(result, result.unit), out)
    record = {"rows": result.table().records(), "step": result.step}
    emit(format, Output([result.table()], record, lambda: _print_transfer(result)))
    for remark in result.remarks:
        note(remark)
    if format is OutputFormat.table:
        say_done(f"wrote {out}")
        say(result.step)


def _print_transfer(result: PhotonTransfer) -> None:
    lines = result.colours or {"": result}
    facts = [
        f"{colour + ': ' if colour else ''}{int(one.points.used.sum())} levels of signal, "
        f"chi-square per degree of freedom {one.line.chi_square:.2f}"
        for colour, one in lines.items()
    ]
    groups = ", ".join(map(str, result.groups))
    print_table(
        Table.of(
            ["figure", "unit", "value", "95 % from", "to"],
            [[row.figure, row.unit, *_digits(row)] for row in result.rows()],
            f"{'; '.join(facts)}; frames of each scene: {groups}",
        )
    )


#: Digits after the point: intervals of noiseless pictures are as small as rounding errors.
_MOST_DIGITS = 6


def _digits(row: EstimateRow | ChartRow) -> list[str | None]:
    """Value and ends with enough digits to see the interval: two of its half width."""
    if row.value is None or row.low is None or row.high is None:
        return [None if row.value is None else figure(row.value), None, None]
    width = (row.high - row.low) / 2
    if not (math.isfinite(width) and width > 0):
        return [figure(row.value), None, None]
    positions = min(max(0, 1 - math.floor(math.log10(width))), _MOST_DIGITS)
    ends = (round(value, positions) + 0.0 for value in (row.value, row.low, row.high))
    return [f"{value:.{positions}f}" for value in ends]


@app.command("blur")
def blur_command(
    picture: Annotated[Path, typer.Argument(metavar="PICTURE", help="Picture of a slanted edge.")],
    region: RegionOption = None,
    out: Annotated[
        Path, typer.Option(help="Figure to write: .png, .svg or .pdf.", metavar="FIGURE")
    ] = Path("edge.png"),
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """Measure the response to a slanted edge by the ISO 12233 method.

    The edge is found automatically, or taken from the region given; the picture must be linear. The
    blur printed is that of an edge that was as sharp as a px allows.
    """
    from magnetite import measure_edge
    from magnetite.core.picture.region import Region
    from magnetite.views.calibration import edge_figure
    from magnetite.views.style import check_figure_path, save

    protect([picture], [out])
    check_figure_path(out)
    part = None if region is None else Region.parse(region)
    loaded = load(picture, full_scale)
    edge = measure_edge(loaded, part)
    table = Table.of(
        ["figure", "unit", "value"],
        [[row.figure, row.unit, row.value] for row in edge.rows()],
        f"region {edge.region} of {picture} ({loaded.describe()})",
    )
    save(edge_figure(edge, loaded), out)
    steps = [blur.step for blur in edge.blurs]
    emit(format, Output([table], {"rows": table.records(), "steps": steps}))
    for remark in edge.remarks:
        note(remark)
    if format is OutputFormat.table:
        say_done(f"wrote {out}")
    if edge.blurs:
        if format is OutputFormat.table:
            say(steps[0])
    elif not edge.overshoot and edge.misfit is None:
        note("the edge is as sharp as a px lets it be: no blur is needed to match it")


@app.command("chart")
def chart_command(
    picture: Annotated[
        Path, typer.Argument(metavar="PICTURE", help="Picture of the chart, from the camera.")
    ],
    chart: Annotated[
        Path, typer.Option(help="Record of the chart, from magnetite chart.", metavar="OUT.json")
    ],
    tone: Annotated[
        str,
        typer.Option(
            help="Tone response: measured (from the gray steps), linear, srgb or bt709.",
            metavar="NAME",
        ),
    ] = "measured",
    camera: Annotated[
        Path | None,
        typer.Option(
            help="TOML file to write the camera to, as a chain with a name.", metavar="FILE"
        ),
    ] = None,
    out: Annotated[
        Path, typer.Option(help="Figure to write: .png, .svg or .pdf.", metavar="FIGURE")
    ] = Path("camera.png"),
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    """Measure a camera from one picture of the test chart.

    Distortion, fall-off, tone response, noise and dynamic range, sharpness of every edge, the star,
    texture, colour errors and the shift of colours. The chart must be upright and whole; it may be
    rotated by 10 degrees, seen obliquely, and 3 times smaller.
    """
    from magnetite import calibrate
    from magnetite.core.chart.camera import camera_of
    from magnetite.files.camera import check_camera_path, read_chart, write_camera
    from magnetite.views.chart import chart_figure
    from magnetite.views.style import check_figure_path, save

    protect([picture, chart], [out, *([] if camera is None else [camera])])
    check_figure_path(out)
    if camera is not None:
        check_camera_path(camera)
    design = read_chart(chart)
    measured = calibrate.chart(load(picture, full_scale), design, tone)
    curve_file = "tone.csv" if camera is None else f"{camera.stem}-tone.csv"
    found = camera_of(measured, curve_file)
    save(chart_figure(measured, picture.name), out)
    if camera is not None:
        write_camera(found, camera, f"The camera of {picture.name}.")
    table = measured.table()
    record = {"rows": table.records(), **measured.as_record(), "chain": found.steps}
    emit(format, Output([table], record, lambda: _print_chart(measured, picture)))
    for remark in (*measured.remarks, *found.remarks):
        note(remark)
    if format is OutputFormat.table:
        say_done(f"wrote {out}" if camera is None else f"wrote {out} and {camera}")
        say(found.steps)


def _print_chart(measured: ChartMeasurement, picture: Path) -> None:
    edges = sum(edge.edge is not None for edge in measured.edges)
    print_table(
        Table.of(
            ["figure", "unit", "value", "95 % from", "to"],
            [[row.figure, row.unit, *_digits(row)] for row in measured.rows()],
            f"{edges} of {len(measured.edges)} edges, {len(measured.found.dots)} of "
            f"{len(measured.chart.dots)} dots (rms {measured.found.residual:.3f} px) of {picture} "
            f"({measured.frame.describe()}); tone response {measured.tone.kind}",
        )
    )


@app.command("naturalness")
def naturalness_command(
    pictures: Annotated[
        list[Path], typer.Argument(metavar="PICTURE…", help="Good pictures, sharp and clean.")
    ],
    out: Annotated[Path, typer.Option(help="Model to write, a JSON file.", metavar="MODEL")] = Path(
        "naturalness.json"
    ),
    full_scale: FullScaleOption = None,
) -> None:
    """Fit the model of good pictures that the gauge naturalness measures distances from.

    Take pictures of the kind that will be judged, some ten or more; colour ones go in by luma.
    """
    from magnetite import fit_naturalness
    from magnetite.core.gauges.naturalness import PATCH
    from magnetite.files.sidecar import write_json

    protect(pictures, [out])
    if out.suffix.lower() != ".json":
        raise InputError(f"{out}: the model is a JSON file; name one that ends in .json")
    model = fit_naturalness(picture for _, picture in load_distinct(pictures, full_scale))
    write_json(out, model.as_record())
    say(f"{model.patches} sharp patches of {PATCH}x{PATCH} px from {model.pictures} pictures")
    say_done(f"wrote {out}")
    say(f"naturalness model={out}")
