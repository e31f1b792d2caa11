"""Output options of all commands that draw a figure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.options import load, note, protect
from magnetite.cli.output import say_done

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from magnetite.core.picture import Picture

FigureOption = Annotated[
    Path, typer.Option(help="Figure to write: .png, .svg or .pdf.", metavar="FIGURE")
]
ShowOption = Annotated[
    bool, typer.Option("--show", help="Open the figure in a window as well; needs a display.")
]


def begin(inputs: Sequence[Path | None], out: Path, *, show: bool) -> None:
    """Raise `FileError` or `InputError` early, where a figure could not be written or shown."""
    from magnetite.views.style import check_display, check_figure_path

    protect([path for path in inputs if path is not None], [out])
    check_figure_path(out)
    if show:
        check_display()


def pictures_of(paths: Sequence[Path], full_scale: float | None) -> list[Picture]:
    """Pictures that are named by their files alone, without folders."""
    return [replace(load(path, full_scale), origin=path.name) for path in paths]


def finish(figure: Figure, out: Path, *, show: bool, on_stderr: bool = False) -> None:
    """Write a figure and report it, on standard error if asked; open it in a window if asked."""
    from magnetite.views.style import open_window, save

    save(figure, out)
    (note if on_stderr else say_done)(f"wrote {out}")
    if show:
        open_window(figure, out.name)
