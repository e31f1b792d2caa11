"""`magnetite report`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.drawing import pictures_of
from magnetite.cli.options import FullScaleOption, note, promise_of, protect
from magnetite.cli.output import say, say_done
from magnetite.cli.progress import working
from magnetite.core.errors import InputError

if TYPE_CHECKING:
    from magnetite.pages.content import Content


def run(
    names: Annotated[
        list[Path],
        typer.Argument(
            metavar="RUN | REF TEST…",
            help="Folder of a run; with --pictures a reference and pictures to compare with it.",
        ),
    ],
    pictures: Annotated[
        bool, typer.Option("--pictures", help="Compare pictures that are not part of a run.")
    ] = False,
    out: Annotated[
        Path | None,
        typer.Option(
            help="Page to write; report.html in the run's folder, or here, if left out.",
            metavar="PAGE.html",
        ),
    ] = None,
    metric: Annotated[
        str | None, typer.Option(help="Metric of the answer; the run's first metric if left out.")
    ] = None,
    need: Annotated[
        list[str] | None,
        typer.Option(
            help="Draw the guarantee of a need, as in 'ssim>=0.95'. May be repeated; all are to be "
            "met.",
            metavar="FIGURE>=VALUE",
        ),
    ] = None,
    share: Annotated[
        str | None,
        typer.Option(
            help="Of new references that meet the need; 95% if left out.", metavar="SHARE"
        ),
    ] = None,
    confidence: Annotated[
        str | None,
        typer.Option(help="Confidence of the guarantee; 90% if left out.", metavar="SHARE"),
    ] = None,
    metrics: Annotated[
        str | None,
        typer.Option(help="Scores of --pictures; psnr,ssim if left out.", metavar="LIST"),
    ] = None,
    limit: Annotated[
        int,
        typer.Option(
            help="MB of pictures that the page itself holds; those beyond go into a folder next "
            "to it.",
            min=0,
            max=500,
        ),
    ] = 9,
    full_scale: FullScaleOption = None,
) -> None:
    """The page needs no network and no server; it opens from disk in any browser."""
    from magnetite.experiment.guarantee import need_of
    from magnetite.files.atomic import inside
    from magnetite.pages.content import of_run
    from magnetite.pages.page import write_page

    _check(names, pictures=pictures, metric=metric, metrics=metrics, full_scale=full_scale)
    where = "the folder of a run" if pictures else "--need"
    promised, asked = promise_of(share, confidence), bool(need) and not pictures
    wanted = need_of(need or (), *promised, asked=asked, where=where)
    page = out or (Path("report.html") if pictures else inside(names[0], "report.html"))
    if page.suffix.lower() not in (".html", ".htm"):
        raise InputError(f"{page}: a report is written as .html")
    protect(names if pictures else [], [page])
    with working("report"):
        content = (
            _of_pictures(names, metrics or "psnr,ssim", full_scale)
            if pictures
            else of_run(names[0], metric, wanted)
        )
        written = write_page(content, page, limit * 10**6)
    for message in content.gallery.notes:
        note(message)
    for answer in content.answers:
        say(f"{answer.where}: {answer.sentence}")
    outside = f", {written.outside} of them in a folder next to it" if written.outside else ""
    say_done(f"wrote {page}, {written.size / 1e6:.1f} MB, {written.pictures} pictures{outside}")


def _check(
    names: list[Path], *, pictures: bool, metric: str | None, metrics: str | None,
    full_scale: float | None,
) -> None:  # fmt: skip
    """Raise `InputError` for names and options that do not go together."""
    if pictures and len(names) < 2:
        raise InputError("--pictures takes a reference and one picture or more")
    if pictures and metric is not None:
        raise InputError("--metric is that of a run; name the scores of pictures with --metrics")
    if not pictures and (metrics is not None or full_scale is not None):
        raise InputError("--metrics and --full-scale go with --pictures; a run has its own")
    if not pictures and len(names) > 1:
        raise InputError("report takes the folder of one run; of pictures with --pictures")


def _of_pictures(names: list[Path], metrics: str, full_scale: float | None) -> Content:
    from magnetite.files.names import shown
    from magnetite.files.reading import coded_file
    from magnetite.pages.content import of_pictures

    loaded = pictures_of(names, full_scale)
    titles = [shown(path.name) for path in names]
    coded = [coded_file(path) for path in names[1:]]
    return of_pictures(loaded[0], loaded[1:], titles, metrics, coded)
