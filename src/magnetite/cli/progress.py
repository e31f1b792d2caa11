"""Progress on the terminal, and silence elsewhere."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from magnetite.cli.options import limits


@contextmanager
def cells_done(title: str) -> Iterator[Callable[[int, int, int], None]]:
    """Show rows done of all, the rate, the time left and failures; call the result with the first
    two and the last."""
    if limits.quiet or not sys.stderr.isatty():
        yield lambda done, total, failed: None
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    bar = Progress(
        TextColumn(title),
        BarColumn(bar_width=30),
        TextColumn("{task.completed}/{task.total} rows"),
        TextColumn("{task.fields[rate]}"),
        TimeRemainingColumn(),
        TextColumn("{task.fields[failed]}"),
        console=Console(stderr=True),
        transient=True,
    )
    with bar:
        task = bar.add_task("", total=None, rate="", failed="")

        def tell(done: int, total: int, failed: int) -> None:
            speed = bar.tasks[0].speed
            rate = "" if not speed else f"{speed:.1f} rows/s"
            words = f"[red]{failed} failed" if failed else ""
            bar.update(task, completed=done, total=total, rate=rate, failed=words)

        yield tell


@contextmanager
def working(title: str) -> Iterator[None]:
    """Say on standard error what is being done, and which of its parts are, while it lasts."""
    from magnetite.core.compute.threads import told

    if limits.quiet or not sys.stderr.isatty():
        yield
        return
    from rich.console import Console

    with Console(stderr=True).status(title) as status:

        def listener(done: int, total: int, name: str) -> None:
            status.update(f"{title} [dim]part {done} of {total}[/dim]")

        with told(listener):
            yield
