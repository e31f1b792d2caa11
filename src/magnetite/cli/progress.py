"""Progress on the terminal, and silence elsewhere."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from magnetite.cli.options import limits

if TYPE_CHECKING:
    from rich.progress import Progress


@contextmanager
def cells_done(title: str) -> Iterator[Callable[[int, int, int], None]]:
    """Show rows done of all, the rate, the time left and failures; call the result with the first
    two and the last."""
    with _bar(title, "rows", "{task.fields[rate]}", "{task.fields[failed]}") as bar:

        def show(done: int, total: int, failed: int) -> None:
            speed = bar.tasks[0].speed if bar else None
            rate = "" if not speed else f"{speed:.1f} rows/s"
            words = f"[red]{failed} failed" if failed else ""
            _update(bar, completed=done, total=total, rate=rate, failed=words)

        yield show


@contextmanager
def parts_done(title: str) -> Iterator[Callable[[int, int, str], None]]:
    """Show parts done of all, the time left and the name of the last; call the result with the
    number done, that of all, and the name."""
    with _bar(title, "parts", "[dim]{task.fields[name]}") as bar:
        yield lambda done, total, name: _update(bar, completed=done, total=total, name=name)


@contextmanager
def _bar(title: str, noun: str, *texts: str) -> Iterator[Progress | None]:
    """A progress bar with one task, and texts of its fields; None where progress is not shown."""
    if limits.quiet or not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    counts = f"{{task.completed}}/{{task.total}} {noun}"
    columns = TextColumn(title), BarColumn(bar_width=30), TextColumn(counts)
    more = [TextColumn(text) for text in texts]
    bar = Progress(
        *columns, TimeRemainingColumn(), *more, console=Console(stderr=True), transient=True
    )
    with bar:
        bar.add_task("", total=None, rate="", failed="", name="")
        yield bar


def _update(bar: Progress | None, **fields: Any) -> None:
    if bar is not None:
        bar.update(bar.tasks[0].id, **fields)


@contextmanager
def working(title: str) -> Iterator[None]:
    """Show the running job and its parts on standard error, while it lasts."""
    from magnetite.core.compute.threads import listening

    if limits.quiet or not sys.stderr.isatty():
        yield
        return
    from rich.console import Console

    with Console(stderr=True).status(title) as status:

        def listener(done: int, total: int, name: str) -> None:
            status.update(f"{title} [dim]part {done} of {total}[/dim]")

        with listening(listener):
            yield
