"""One look for all figures, and the way they are saved."""

from __future__ import annotations

import importlib
import importlib.util
import io
import logging
import os
import sys
from collections.abc import Callable, Sequence
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, ParamSpec, TypeVar

from magnetite.core.errors import FileError, InputError
from magnetite.files.atomic import check_writable, write_bytes
from magnetite.files.names import shown

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

Arguments = ParamSpec("Arguments")
Result = TypeVar("Result")
#: Colours that stay apart for colour-blind readers (Okabe and Ito 2008), darkest first.
COLOURS = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#000000")
#: Colours of the channels of RGB.
CHANNELS = (("red", "#c0392b"), ("green", "#2e8b57"), ("blue", "#2c6fbb"))
MARKERS = ("o", "s", "^", "D", "v", "P", "X")
INK = "#222222"
QUIET = "#777777"
ENDINGS = (".png", ".svg", ".pdf")
DOTS_PER_INCH = 100

_STYLE: dict[Any, Any] = {
    "font.size": 10,
    "axes.titlesize": 11.5,
    "axes.titlelocation": "left",
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.edgecolor": QUIET,
    "axes.formatter.useoffset": False,
    "axes.labelcolor": INK,
    "text.color": INK,
    "xtick.color": INK,
    "ytick.color": INK,
    "grid.color": "#e3e3e3",
    "lines.linewidth": 1.8,
    "lines.markersize": 4.5,
    "svg.hashsalt": "magnetite",
    "text.parse_math": False,
}


def _matplotlib() -> Any:
    logging.getLogger("matplotlib").setLevel(logging.ERROR)  # no remarks on its cache folder
    return importlib.import_module("matplotlib")


def in_style(draw: Callable[Arguments, Result]) -> Callable[Arguments, Result]:
    """A function that draws in the common style, and leaves the process's own defaults alone."""

    @wraps(draw)
    def drawing(*arguments: Arguments.args, **settings: Arguments.kwargs) -> Result:
        with _matplotlib().rc_context(_STYLE):
            return draw(*arguments, **settings)

    return drawing


def new_figure(width: float, height: float) -> Figure:
    """An empty figure of a size in px, in the common style."""
    _matplotlib().rcParams.update(_STYLE)
    from matplotlib.figure import Figure

    size = (width / DOTS_PER_INCH, height / DOTS_PER_INCH)
    return Figure(figsize=size, dpi=DOTS_PER_INCH, facecolor="white")


def fitted(text: str, width: float, size: float = 9.5) -> str:
    """The lines of a text, each shortened in the middle to a width in px at a size in points."""
    most = max(8, int(width / (0.74 * size)))

    def shortened(line: str) -> str:
        if len(line) <= most:
            return line
        head = (most - 1) * 2 // 3
        return f"{line[:head]}…{line[len(line) - (most - 1 - head) :]}"

    return "\n".join(map(shortened, text.splitlines()))


def headline(figure: Figure, text: str) -> None:
    """Title of a figure, at its top left; shortened in the middle to its width."""
    width, height = (inches * DOTS_PER_INCH for inches in figure.get_size_inches())
    figure.text(16 / width, 1 - 12 / height, fitted(text, width - 32, 13), fontsize=13, va="top")


def bare(axes: Axes) -> None:
    """Leave nothing of the axes but a thin frame: a picture needs no ticks."""
    axes.set_xticks([])
    axes.set_yticks([])
    for spine in axes.spines.values():
        spine.set(visible=True, color=QUIET, linewidth=0.6)


def check_figure_path(path: Path) -> None:
    """Raise `FileError` early if a figure could not be written there."""
    if path.suffix.lower() not in ENDINGS:
        raise FileError(f"{path}: a figure is written as {', '.join(ENDINGS)}")
    check_writable(path)


def save(figure: Figure, path: Path) -> None:
    """Write a figure in the format its ending names, whole or not at all."""
    from matplotlib.text import Text

    check_figure_path(path)
    buffer = io.BytesIO()
    ending = path.suffix.lower().removeprefix(".")
    metadata: dict[str, Any] = {
        "png": {"Software": "magnetite"},
        "svg": {"Date": None},
        "pdf": {"CreationDate": None},
    }
    for text in figure.findobj(Text):
        text.set_text(shown(text.get_text()))
    more: dict[str, Any] = {"pil_kwargs": {"compress_level": 4}} if ending == "png" else {}
    figure.savefig(buffer, format=ending, metadata=metadata[ending], **more)
    write_bytes(path, buffer.getvalue())


def check_display() -> None:
    """Raise `InputError` where no window can be opened."""
    if sys.platform.startswith("linux") and not (
        os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")
    ):
        raise InputError("--show needs a display, and this session has none: open the file instead")
    if importlib.util.find_spec("tkinter") is None:
        raise InputError("--show needs Python's tkinter, which is not installed here")


def open_window(figure: Figure, title: str) -> None:
    """Show a figure in a window until it is closed; raises `InputError` where there is none."""
    import tkinter

    backend: Any = importlib.import_module("matplotlib.backends.backend_tkagg")
    try:
        window = tkinter.Tk()
    except tkinter.TclError as error:
        raise InputError(f"--show: no window can be opened ({error})") from None
    window.title(title)
    canvas = backend.FigureCanvasTkAgg(figure, window)
    canvas.get_tk_widget().pack(fill="both", expand=True)
    backend.NavigationToolbar2Tk(canvas, window)
    window.mainloop()


def label_ends(axes: Axes, ends: Sequence[tuple[float, str, str]]) -> None:
    """Name lines at their right ends: (height of the end, label, colour), kept from overlapping.

    Heights are in data units. Labels stand right of the axes, joined to their ends' heights.
    """
    from matplotlib.transforms import blended_transform_factory

    low, high = axes.get_ylim()
    gap = (high - low) * 0.062
    ordered = sorted(ends)
    positions = _spread([end[0] for end in ordered], gap, low, high)
    mixed = blended_transform_factory(axes.transAxes, axes.transData)
    for (height, label, colour), position in zip(ordered, positions, strict=True):
        axes.plot(
            [1.0, 1.03], [height, position], color=colour, lw=0.8, alpha=0.7,
            transform=mixed, clip_on=False,
        )  # fmt: skip
        axes.text(1.04, position, label, color=colour, va="center", transform=mixed)


def _spread(heights: list[float], gap: float, low: float, high: float) -> list[float]:
    """Rising positions near the heights, at least a gap apart, within bounds as far as they fit."""
    positions: list[float] = []
    for height in heights:
        position = max(height, low + gap / 2)
        positions.append(max(position, positions[-1] + gap) if positions else position)
    top = high - gap / 4
    for i in range(len(positions) - 1, -1, -1):
        positions[i] = min(positions[i], top)
        top = positions[i] - gap
    return positions
