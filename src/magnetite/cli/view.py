"""`magnetite view`: pictures to look at."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli import sweep
from magnetite.cli.drawing import FigureOption, ShowOption, begin, finish, pictures_of
from magnetite.cli.help import steps_of
from magnetite.cli.options import FullScaleOption, RegionOption, note
from magnetite.cli.score_output import score_words

PictureArgument = Annotated[Path, typer.Argument(metavar="PICTURE", help="Picture to look at.")]
PicturesArgument = Annotated[
    list[Path], typer.Argument(metavar="PICTURE…", help="Pictures, also .mgt files.")
]

app = typer.Typer(no_args_is_help=True, rich_markup_mode="rich")


@app.callback()
def _group() -> None:
    pass


@app.command("sheet")
def sheet_command(
    pictures: PicturesArgument,
    out: FigureOption = Path("sheet.png"),
    crop: Annotated[
        str | None,
        typer.Option(
            help="Region shown enlarged below each, in px, as in 120,80,64x48.",
            metavar="LEFT,TOP,WIDTHxHEIGHT",
        ),
    ] = None,
    reference: Annotated[
        Path | None,
        typer.Option(help="Picture to score the others against, in their titles.", metavar="REF"),
    ] = None,
    show: ShowOption = False,
    full_scale: FullScaleOption = None,
) -> None:
    """Show pictures side by side at one scale, with a zoomed crop of the same position in each."""
    from magnetite.core.picture.region import Region
    from magnetite.views.sheet import sheet

    begin([*pictures, reference], out, show=show)
    region = None if crop is None else Region.parse(crop)
    loaded = pictures_of(pictures, full_scale)
    clean = None if reference is None else pictures_of([reference], full_scale)[0]
    titles = []
    for path, picture in zip(pictures, loaded, strict=True):
        words = picture.describe() if clean is None else score_words(clean, picture)
        if reference is not None and path.samefile(reference):
            words = "reference"
        titles.append(f"{path.name}{_rate_words(path)}\n{words}")
    finish(sheet(loaded, titles, region), out, show=show)


def _rate_words(path: Path) -> str:
    """Rate and size of a compressed file, in words."""
    from magnetite.files.reading import coded_file

    coded = coded_file(path)
    return "" if coded is None else f": {coded.bpp:.3g} bpp, {coded.size} bytes"


app.command("sweep", cls=steps_of("degradation", "codec", "restoration"))(sweep.run)


@app.command("noise")
def noise_command(
    reference: Annotated[Path, typer.Argument(metavar="REF", help="Clean picture.")],
    test: Annotated[Path, typer.Argument(metavar="TEST", help="Degraded picture.")],
    out: FigureOption = Path("noise.png"),
    show: ShowOption = False,
    full_scale: FullScaleOption = None,
) -> None:
    """Show the noise: reference + noise = sum, the noise's histogram and spectrum.

    Where TEST has a certificate of noise alone, the declared density is drawn over the histogram.
    """
    from magnetite.core.errors import InputError
    from magnetite.files.sidecar import read_json
    from magnetite.files.writing import certificate_path
    from magnetite.views.noise import declared_noise, noise_figure

    begin([reference, test], out, show=show)
    clean, degraded = pictures_of([reference, test], full_scale)
    sidecar, declared = certificate_path(test), None
    if sidecar.is_file():
        certificate = read_json(sidecar)
        try:
            declared = declared_noise(certificate, clean, degraded)
        except InputError as error:
            note(f"{sidecar}: {error}: a normal density of the difference's mean and sd is drawn")
    finish(noise_figure(clean, degraded, declared), out, show=show)


@app.command("residual")
def residual_command(
    before: Annotated[Path, typer.Argument(metavar="IN", help="Degraded picture.")],
    after: Annotated[Path, typer.Argument(metavar="RESTORED", help="The restored picture.")],
    out: FigureOption = Path("residual.png"),
    show: ShowOption = False,
    full_scale: FullScaleOption = None,
) -> None:
    """Show the residual of a restoration, and whether it is noise or the picture's detail."""
    from magnetite.views.residual import residual_figure

    begin([before, after], out, show=show)
    finish(residual_figure(*pictures_of([before, after], full_scale)), out, show=show)


@app.command("planes")
def planes_command(
    picture: PictureArgument,
    out: FigureOption = Path("planes.png"),
    show: ShowOption = False,
    full_scale: FullScaleOption = None,
) -> None:
    """Show all bit planes, the most significant first."""
    from magnetite.views.planes import planes_figure

    begin([picture], out, show=show)
    finish(planes_figure(*pictures_of([picture], full_scale)), out, show=show)


@app.command("profile")
def profile_command(
    pictures: PicturesArgument,
    line: Annotated[
        str | None,
        typer.Option(
            help="From one sample to another, px; the middle row if left out.",
            metavar="X1,Y1,X2,Y2",
        ),
    ] = None,
    out: FigureOption = Path("profile.png"),
    show: ShowOption = False,
    full_scale: FullScaleOption = None,
) -> None:
    """Plot pixel values along a line, such as across an edge, of several pictures in one plot."""
    from magnetite.views.profile import Segment, profile_figure

    begin(pictures, out, show=show)
    given = None if line is None else Segment.parse(line)
    loaded = pictures_of(pictures, full_scale)
    segment = given or Segment.across(loaded[0])
    drawn = profile_figure(loaded, [path.name for path in pictures], segment)
    finish(drawn, out, show=show)


@app.command("surface")
def surface_command(
    picture: PictureArgument,
    region: RegionOption = None,
    turn: Annotated[
        float,
        typer.Option(
            help="Direction of view about the vertical, degrees; -90 is from the lower edge.",
            min=-360,
            max=360,
        ),
    ] = -68,
    tilt: Annotated[
        float, typer.Option(help="Height of view, degrees; 90 is from above.", min=-90, max=90)
    ] = 48,
    out: FigureOption = Path("surface.png"),
    show: ShowOption = False,
    full_scale: FullScaleOption = None,
) -> None:
    """Show intensity as a landscape, seen from any side."""
    from magnetite.core.picture.region import Region
    from magnetite.views.surface import surface_figure

    begin([picture], out, show=show)
    part = None if region is None else Region.parse(region)
    loaded = pictures_of([picture], full_scale)[0]
    finish(surface_figure(loaded, picture.name, part, turn=turn, tilt=tilt), out, show=show)


@app.command("spectrum")
def spectrum_command(
    pictures: PicturesArgument,
    out: FigureOption = Path("spectrum.png"),
    show: ShowOption = False,
    full_scale: FullScaleOption = None,
) -> None:
    """Show the power spectrum: over both frequencies, and averaged over all directions."""
    from magnetite.views.spectrum import spectrum_figure

    begin(pictures, out, show=show)
    loaded = pictures_of(pictures, full_scale)
    finish(spectrum_figure(loaded, [path.name for path in pictures]), out, show=show)


@app.command("sharpness")
def sharpness_command(
    picture: PictureArgument,
    out: FigureOption = Path("sharpness.png"),
    show: ShowOption = False,
    full_scale: FullScaleOption = None,
) -> None:
    """Show sharpness over the field: edge width and MTF50 by position, and slanted edges."""
    from magnetite.views.sharpness import sharpness_figure

    begin([picture], out, show=show)
    loaded = pictures_of([picture], full_scale)[0]
    finish(sharpness_figure(loaded, picture.name), out, show=show)


@app.command("approximation")
def approximation_command(
    picture: PictureArgument,
    out: FigureOption = Path("approximation.png"),
    show: ShowOption = False,
    full_scale: FullScaleOption = None,
) -> None:
    """Approximate a picture by few singular values, components or coefficients."""
    from magnetite.views.approximation import approximation_figure

    begin([picture], out, show=show)
    loaded = pictures_of([picture], full_scale)[0]
    finish(approximation_figure(loaded, picture.name), out, show=show)
