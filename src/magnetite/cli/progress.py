"""Progress on the terminal, and silence elsewhere."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager


@contextmanager
def progress(title: str, total: int) -> Iterator[Callable[[str], None]]:
    """Show a bar on standard error while work is done; call the result once for each unit."""
    if not sys.stderr.isatty():
        yield lambda _: None
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

    bar = Progress(
        TextColumn("{task.fields[title]}"),
        BarColumn(bar_width=30),
        TextColumn("{task.completed}/{task.total}"),
        TimeElapsedColumn(),
        TextColumn("[dim]{task.description}"),
        console=Console(stderr=True),
        transient=True,
    )
    with bar:
        task = bar.add_task("", total=total, title=title)
        yield lambda description: bar.update(task, advance=1, description=description)


@contextmanager
def working(title: str) -> Iterator[None]:
    """Say on standard error what is being done, and which of its parts are, while it lasts."""
    from magnetite.core.parallel import told

    if not sys.stderr.isatty():
        yield
        return
    from rich.console import Console

    with Console(stderr=True).status(title) as status:

        def listener(done: int, total: int) -> None:
            status.update(f"{title} [dim]part {done} of {total}[/dim]")

        with told(listener):
            yield
