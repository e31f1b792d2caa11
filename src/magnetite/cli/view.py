"""`magnetite view`: pictures to look at."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.options import FullScaleOption, RegionOption, load, protect
from magnetite.cli.output import say
from magnetite.cli.score_output import score_words

if TYPE_CHECKING:
    from magnetite.core.picture import Picture

PictureArgument = Annotated[Path, typer.Argument(metavar="PICTURE", help="Picture to look at.")]
PicturesArgument = Annotated[
    list[Path], typer.Argument(metavar="PICTURE…", help="Pictures, also .mgt files.")
]
FigureOption = Annotated[
    Path, typer.Option(help="Figure to write: .png, .svg or .pdf.", metavar="FIGURE")
]

app = typer.Typer(help="Draw pictures to look at.", no_args_is_help=True, rich_markup_mode="rich")


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
    full_scale: FullScaleOption = None,
) -> None:
    """Show pictures side by side at one scale, with a zoomed crop of the same place in each."""
    from magnetite.core.picture.region import Region
    from magnetite.views.sheet import sheet
    from magnetite.views.style import check_figure_path, save

    protect([*pictures, *([reference] if reference else [])], [out])
    check_figure_path(out)
    region = None if crop is None else Region.parse(crop)
    loaded = [load(path, full_scale) for path in pictures]
    clean = None if reference is None else load(reference, full_scale)
    titles = []
    for path, picture in zip(pictures, loaded, strict=True):
        words = picture.describe() if clean is None else score_words(clean, picture)
        if reference is not None and path.samefile(reference):
            words = "reference"
        titles.append(f"{path.name}{_rate_words(path, picture)}\n{words}")
    save(sheet(loaded, titles, region), out)
    say(f"wrote {out}")


def _rate_words(path: Path, picture: Picture) -> str:
    """Rate and size of a compressed file, in words."""
    from magnetite.files.reading import compressed_size

    size = compressed_size(path)
    if size is None:
        return ""
    return f": {8 * size / (picture.width * picture.height):.3g} bpp, {size} bytes"


@app.command("noise")
def noise_command(
    reference: Annotated[Path, typer.Argument(metavar="REF", help="Clean picture.")],
    test: Annotated[Path, typer.Argument(metavar="TEST", help="Degraded picture.")],
    out: FigureOption = Path("noise.png"),
    full_scale: FullScaleOption = None,
) -> None:
    """Show what was added: the difference scaled for sight, its histogram, its spectrum.

    Where TEST has a certificate, the declared density is drawn over the histogram.
    """
    from dataclasses import replace

    from magnetite.files.sidecar import certificate_path, read_json
    from magnetite.views.noise import Declared, noise_figure
    from magnetite.views.style import check_figure_path, save

    protect([reference, test], [out])
    check_figure_path(out)
    sidecar = certificate_path(test)
    declared = Declared.of(read_json(sidecar)) if sidecar.is_file() else None
    clean, degraded = (replace(load(p, full_scale), origin=p.name) for p in (reference, test))
    save(noise_figure(clean, degraded, declared), out)
    say(f"wrote {out}")


@app.command("residual")
def residual_command(
    before: Annotated[Path, typer.Argument(metavar="IN", help="Degraded picture.")],
    after: Annotated[Path, typer.Argument(metavar="RESTORED", help="What was made of it.")],
    out: FigureOption = Path("residual.png"),
    full_scale: FullScaleOption = None,
) -> None:
    """Show what a restoration took away, and whether that is noise or the picture's detail."""
    from dataclasses import replace

    from magnetite.views.residual import residual_figure
    from magnetite.views.style import check_figure_path, save

    protect([before, after], [out])
    check_figure_path(out)
    degraded, restored = (replace(load(p, full_scale), origin=p.name) for p in (before, after))
    save(residual_figure(degraded, restored), out)
    say(f"wrote {out}")


@app.command("planes")
def planes_command(
    picture: PictureArgument,
    out: FigureOption = Path("planes.png"),
    full_scale: FullScaleOption = None,
) -> None:
    """Show all bit planes, the most significant first."""
    from dataclasses import replace

    from magnetite.views.planes import planes_figure
    from magnetite.views.style import check_figure_path, save

    protect([picture], [out])
    check_figure_path(out)
    save(planes_figure(replace(load(picture, full_scale), origin=picture.name)), out)
    say(f"wrote {out}")


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
    full_scale: FullScaleOption = None,
) -> None:
    """Plot pixel values along a line, such as across an edge, of several pictures in one plot."""
    from magnetite.views.profile import Segment, profile_figure
    from magnetite.views.style import check_figure_path, save

    protect(pictures, [out])
    check_figure_path(out)
    given = None if line is None else Segment.parse(line)
    loaded = [load(path, full_scale) for path in pictures]
    segment = given or Segment.across(loaded[0])
    save(profile_figure(loaded, [path.name for path in pictures], segment), out)
    say(f"wrote {out}")


@app.command("surface")
def surface_command(
    picture: PictureArgument,
    region: RegionOption = None,
    out: FigureOption = Path("surface.png"),
    full_scale: FullScaleOption = None,
) -> None:
    """Show intensity as a landscape."""
    from magnetite.core.picture.region import Region
    from magnetite.views.style import check_figure_path, save
    from magnetite.views.surface import surface_figure

    protect([picture], [out])
    check_figure_path(out)
    part = None if region is None else Region.parse(region)
    save(surface_figure(load(picture, full_scale), picture.name, part), out)
    say(f"wrote {out}")


@app.command("spectrum")
def spectrum_command(
    pictures: PicturesArgument,
    out: FigureOption = Path("spectrum.png"),
    full_scale: FullScaleOption = None,
) -> None:
    """Show the power spectrum: over both frequencies, and averaged over all directions."""
    from magnetite.views.spectrum import spectrum_figure
    from magnetite.views.style import check_figure_path, save

    protect(pictures, [out])
    check_figure_path(out)
    loaded = [load(path, full_scale) for path in pictures]
    save(spectrum_figure(loaded, [path.name for path in pictures]), out)
    say(f"wrote {out}")


@app.command("approximation")
def approximation_command(
    picture: PictureArgument,
    out: FigureOption = Path("approximation.png"),
    full_scale: FullScaleOption = None,
) -> None:
    """Show how well few singular values, components or coefficients stand for the picture."""
    from magnetite.views.approximation import approximation_figure
    from magnetite.views.style import check_figure_path, save

    protect([picture], [out])
    check_figure_path(out)
    save(approximation_figure(load(picture, full_scale), picture.name), out)
    say(f"wrote {out}")
