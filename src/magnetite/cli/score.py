"""`magnetite score`."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from magnetite.cli.options import (
    FormatOption,
    FullScaleOption,
    OutputFormat,
    RegionOption,
    load,
    note,
    protect,
)
from magnetite.cli.pairs import pairs_of
from magnetite.cli.score_output import ALL_REFERENCES, Row, print_rows, say_left_out
from magnetite.core.errors import InputError

if TYPE_CHECKING:
    from magnetite.core.alignment import Shift
    from magnetite.core.picture import Picture, Samples
    from magnetite.core.region import Region
    from magnetite.core.repeats import Summary


_MAP_FILES = ("error.tif", "ssim.tif", "gmsd.tif", "delta-e.tif", "maps.png")


def run(
    ref: Annotated[
        Path, typer.Argument(metavar="REF", help="Reference picture, or a folder of them.")
    ],
    tests: Annotated[
        list[Path],
        typer.Argument(
            metavar="TEST…", help="Pictures to score, also .mgt files; or folders, by name."
        ),
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
        int, typer.Option(help="Leave out PX pixels along every edge.", metavar="PX")
    ] = 0,
    mask: Annotated[
        Path | None,
        typer.Option(
            help="Picture that is black where nothing is to be scored.", metavar="PICTURE"
        ),
    ] = None,
    align: Annotated[
        bool,
        typer.Option("--align", help="Find how far each test is shifted, say it, and undo it."),
    ] = False,
    repeats: Annotated[
        bool,
        typer.Option(
            "--repeats",
            help="The tests of a reference are repeats: mean, sd and 95 % interval as well.",
        ),
    ] = False,
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
    """Score pictures against their reference, or a folder of them against folders."""
    from magnetite.core.errors import PictureError
    from magnetite.core.scoring import check_comparable, check_depths, parse_metrics, score
    from magnetite.core.sharing import Sharing
    from magnetite.files.reading import compressed_size

    if region is not None and crop_border:
        raise InputError("--region and --crop-border exclude each other: name the region alone")
    parse_metrics(metrics, "metric")
    pairs = pairs_of(ref, tests)
    if maps is not None:
        _check_names(pairs)
        protect(
            [path for pair in pairs for path in pair],
            [maps / f"{path.stem}-{end}" for _, path in pairs for end in _MAP_FILES],
        )
    rows: list[Row] = []
    for reference_path, path in pairs:
        if not rows or rows[-1].reference != reference_path:
            whole = load(reference_path, full_scale)
            one = whole.exact_luma() if gray else whole
            part = _part(whole, region, crop_border)
            clean, sharing = part.crop(one), Sharing()
            inside = None if mask is None else part.within(_mask(mask, whole))
        test = load(path, full_scale)
        if mixed_depths:
            test = _at_depth_of(whole, test)
        check_depths(whole, test)
        two = test.exact_luma() if gray else test
        check_comparable(one, two)
        pair = _Pair(clean, part.crop(two), inside)
        pair = pair.aligned() if align else pair
        if pair.shift:
            note(f"{path} lies {pair.shift} of {reference_path}; {pair.words}")
        try:
            scores = score(pair.reference, pair.test, metrics, mask=pair.mask, sharing=sharing)
        except PictureError as error:
            where = "" if str(path) in str(error) else f"{path}: "
            raise PictureError(f"{where}{error}") from None
        size = compressed_size(path)
        rows.append(Row(reference_path, whole, path, scores, pair.shift, part, size))
        if maps is not None:
            _write_maps(pair.reference, pair.test, path, maps)
    say_left_out(rows[0].scores.left_out)
    for remark in dict.fromkeys(remark for row in rows for remark in row.scores.remarks):
        note(remark)
    summaries = _summaries(rows) if repeats else {}
    print_rows(rows, metrics, summaries, format)


def _summaries(rows: list[Row]) -> dict[Path, dict[str, Summary]]:
    """Repeats of each reference; of several references also their means, the interval over them."""
    from magnetite.core.repeats import summarise

    summaries = {}
    for reference in dict.fromkeys(row.reference for row in rows):
        summaries[reference] = summarise([r.scores for r in rows if r.reference == reference])
    if len(summaries) > 1:
        means = [
            {label: one.mean for label, one in summary.items() if one.mean is not None}
            for summary in summaries.values()
        ]
        common = [label for label in means[0] if all(label in row for row in means)]
        summaries[ALL_REFERENCES] = summarise([{k: row[k] for k in common} for row in means])
    return summaries


class _Pair(NamedTuple):
    """What is compared with what, and where."""

    reference: Picture
    test: Picture
    mask: Samples | None
    shift: Shift | None = None

    @property
    def words(self) -> str:
        from magnetite.core.alignment import WHOLE

        size = f"{self.reference.width}x{self.reference.height} px scored"
        still = self.shift is not None and max(map(abs, self.shift[:2])) < WHOLE
        return f"left as it is, {size}" if still else f"undone, {size}"

    def aligned(self) -> _Pair:
        from magnetite.core.alignment import aligned

        match = aligned(self.reference, self.test)
        mask = None if self.mask is None else match.region.within(self.mask)
        return _Pair(match.reference, match.test, mask, match.shift)


def _part(whole: Picture, region: str | None, border: int) -> Region:
    from magnetite.core.region import Region

    return Region.inside(whole, border) if region is None else Region.parse(region)


def _mask(path: Path, reference: Picture) -> Samples:
    """The mask's samples; of several channels the largest."""
    picture = load(path)
    if (picture.width, picture.height) != (reference.width, reference.height):
        raise InputError(
            f"the mask {path} is {picture.describe()}, {reference.origin} is "
            f"{reference.describe()}: they must have one size"
        )
    return picture.samples if picture.samples.ndim == 2 else picture.samples.max(axis=2)


def _check_names(pairs: list[tuple[Path, Path]]) -> None:
    """Maps are named after the tests: no two may have one name."""
    stems = [path.stem for _, path in pairs]
    for stem in stems:
        if stems.count(stem) > 1:
            raise InputError(f"--maps: two tests are called {stem}; score them in turn")


def _write_maps(reference: Picture, test: Picture, path: Path, folder: Path) -> None:
    """Each map as a float TIFF, all of them as a figure."""
    import numpy as np

    from magnetite.core.metrics.maps import error_maps
    from magnetite.core.picture import Picture
    from magnetite.files.atomic import make_folder
    from magnetite.files.writing import write
    from magnetite.views.maps import maps_figure
    from magnetite.views.style import save

    made = error_maps(reference, test)
    make_folder(folder)
    for one in made:
        write(
            Picture(one.values.astype(np.float32), None, "gray"),
            folder / f"{path.stem}-{one.name}.tif",
        )
    title = f"{path.name} against {Path(reference.origin).name}: bright where it fails"
    save(maps_figure(made, title), folder / f"{path.stem}-maps.png")
    note(f"wrote {len(made)} maps of {path} to {folder}")


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
