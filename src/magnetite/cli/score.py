"""`magnetite score`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.formats import FormatOption, OutputFormat
from magnetite.cli.options import (
    FullScaleOption,
    RegionOption,
    is_new,
    limits,
    load,
    note,
    note_earlier,
    protect,
    rows_of,
)
from magnetite.cli.score_output import Row, print_rows
from magnetite.core.errors import InputError
from magnetite.core.quantities import abbreviated, counted

if TYPE_CHECKING:
    from magnetite.core.operations.score import Pair, Scores


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
    from magnetite.core.analysis.repeats import summarise_by_reference
    from magnetite.core.errors import PictureError
    from magnetite.core.operations.score import Scorer
    from magnetite.core.operations.selection import selected
    from magnetite.files.pairs import pairs_of
    from magnetite.files.reading import coded_file
    from magnetite.files.resources import DiskFiles

    asked = selected(metrics, "metric")
    pairs, alone = pairs_of(ref, tests)
    for folder, files in alone.items():
        note(f"without a partner in {folder}, and left out there: {abbreviated(files)}")
    if maps is not None:
        _check_names(pairs)
        protect(
            [path for pair in pairs for path in pair],
            [maps / f"{path.stem}-{end}" for _, path in pairs for end in _MAP_FILES],
        )
    inside = None if mask is None else load(mask).samples
    within = () if mask is None else (f"within {mask}",)
    rows: list[Row] = []
    own: list[tuple[str, Scores]] = []
    references: dict[bytes, Path] = {}
    for reference_path, path in pairs:
        if not rows or rows[-1].reference != reference_path:
            scorer = Scorer(
                rows_of(reference_path, full_scale), region=region, border=crop_border,
                mask=inside, gray=gray, mixed_depths=mixed_depths, align=align, files=DiskFiles(),
                allowance=limits.allowance,
            )  # fmt: skip
            counting = repeats and is_new(references, scorer.reference, reference_path)
            known: dict[bytes, Path] = {}
        test = rows_of(path, full_scale)
        try:
            pair = scorer.pair(test)
            scores = scorer.score(pair, asked)
        except PictureError as error:
            where = "" if str(path) in str(error) else f"{path}: "
            raise PictureError(f"{where}{error}") from None
        if pair.shift:
            note(f"{path} lies {pair.shift} of {reference_path}; {pair.words}")
        frame = scorer.reference.frame
        only = ("luma",) * (gray and frame.channels > 1) + within
        rows.append(Row(reference_path, frame, path, scores, scorer.part, coded_file(path), only))
        if counting and is_new(known, test, path):
            own.append((str(reference_path), scores))
        if maps is not None:
            _write_maps(pair, path, maps)
    for remark in dict.fromkeys(remark for row in rows for remark in row.scores.remarks):
        note(remark)
    print_rows(rows, list(asked), summarise_by_reference(own) if repeats else {}, format)


def _check_names(pairs: list[tuple[Path, Path]]) -> None:
    """Maps are named after the tests: no two may have one name."""
    stems = [path.stem for _, path in pairs]
    for stem in stems:
        if stems.count(stem) > 1:
            raise InputError(f"--maps: two tests are called {stem}; score them in turn")


def _write_maps(pair: Pair, path: Path, folder: Path) -> None:
    """Each map as a float TIFF, all of them as a figure."""
    from magnetite.core.analysis.maps import error_maps
    from magnetite.core.picture.rows import whole
    from magnetite.files.atomic import make_folder
    from magnetite.files.writing import write
    from magnetite.views.maps import maps_figure
    from magnetite.views.style import save

    made = error_maps(whole(pair.reference), whole(pair.test))
    make_folder(folder)
    written = [folder / f"{path.stem}-{one.name}.tif" for one in made]
    for one, target in zip(made, written, strict=True):
        write(one.picture(), target)
    title = f"{path.name} against {Path(pair.reference.origin).name}: bright where it fails"
    written.append(folder / f"{path.stem}-maps.png")
    save(maps_figure(made, title), written[-1])
    note(f"wrote {counted(len(made), 'map')} of {path} to {folder}")
    note_earlier([folder / f"{path.stem}-{end}" for end in _MAP_FILES], written)
