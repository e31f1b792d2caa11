"""Tables and lines for people."""

from __future__ import annotations

import re
import shutil
import sys
import textwrap
import unicodedata
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from magnetite.cli.options import limits
from magnetite.core.quantities import figures
from magnetite.files.names import shown

if TYPE_CHECKING:
    from magnetite.core.table import Table


def say(text: str = "") -> None:
    """A line for people, with nothing in it that a terminal would obey."""
    print(shown(text))


def say_remark(text: str) -> None:
    """A remark below a table: indented, and wrapped between words on a terminal."""
    if sys.stdout.isatty():
        width = max(_NARROWEST, shutil.get_terminal_size().columns)
        text = textwrap.fill(shown(text), width - 2, subsequent_indent="  ")
        print(textwrap.indent(text, "  "))
    else:
        say(f"  {text}")


#: Columns of a terminal that text is wrapped to at least.
_NARROWEST = 40


def say_done(text: str) -> None:
    """A line on the files written; nothing with --quiet."""
    if not limits.quiet:
        say(text)


def print_table(table: Table) -> None:
    """A table on a terminal; aligned plain text, never cut, anywhere else.

    Numbers of a column have equal decimal places. Columns of numbers, or of text that begins like
    one, are aligned to the right. Where a terminal is too narrow each row becomes a block.
    """
    titles = [column.heading for column in table.columns]
    texts = _texts(table.rows, len(titles))
    numeric = [all(_is_figure(line[i]) for line in texts) for i in range(len(titles))]
    columns = list(zip(titles, *texts, strict=True))
    widths = [max(map(terminal_width, column)) for column in columns]
    if sys.stdout.isatty():
        room = shutil.get_terminal_size().columns
        if sum(widths) + 2 * len(widths) > _FOLDED * room:
            _print_blocks(titles, texts)
        else:
            _print_rich(titles, texts, numeric, table.families)
        if table.caption:
            _print_dim(table.caption)
        return
    for number, line in enumerate((titles, *texts)):
        if number - 1 in table.families:
            print(table.families[number - 1])
        cells = (
            _filled(text, width, right=right)
            for text, width, right in zip(line, widths, numeric, strict=True)
        )
        print("  ".join(cells).rstrip())
    if table.caption:
        say(table.caption)


#: Tables this many times as wide as the terminal are folded, wider ones become blocks.
_FOLDED = 1.4


def _texts(rows: Sequence[Sequence[Any]], count: int) -> list[list[str]]:
    """Cells as text, the numbers of a column with equal decimal places."""
    columns = []
    for k in range(count):
        column = [row[k] for row in rows]
        numbers = iter(figures([cell for cell in column if not isinstance(cell, str)]))
        columns.append([shown(c) if isinstance(c, str) else next(numbers) for c in column])
    return [list(line) for line in zip(*columns, strict=True)] if rows else []


def terminal_width(text: str) -> int:
    """Columns of a terminal that a text takes: two for wide characters, none for combining ones."""
    return sum(
        0 if unicodedata.combining(c) else 2 if unicodedata.east_asian_width(c) in "WF" else 1
        for c in text
    )


def _filled(text: str, width: int, *, right: bool) -> str:
    space = " " * (width - terminal_width(text))
    return space + text if right else text + space


def _is_figure(text: str) -> bool:
    return re.fullmatch(r"(≤ ?)?[-+−]?[\d.]*(e[-+]\d+)?∞?[* ]?|–", text) is not None


def _print_rich(
    titles: Sequence[str], texts: list[list[str]], numeric: list[bool], families: Mapping[int, str]
) -> None:
    from rich import box
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, show_edge=False)
    for title, right in zip(titles, numeric, strict=True):
        table.add_column(
            Text(title), justify="right" if right else "left", overflow="fold", no_wrap=right
        )
    for number, line in enumerate(texts):
        if number in families:
            table.add_row(Text(families[number], style="bold"))
        table.add_row(*(Text(text) for text in line))
    Console(highlight=False).print(table)


def _print_blocks(titles: Sequence[str], texts: list[list[str]]) -> None:
    """Each row as a block: its first cell, then a line for each other one."""
    from rich.console import Console
    from rich.text import Text

    console = Console(highlight=False)
    width = max(map(terminal_width, titles[1:]), default=0)
    for line in texts:
        console.print(Text(line[0], style="bold"))
        for title, text in zip(titles[1:], line[1:], strict=True):
            if text:
                console.print(Text(f"  {_filled(title, width, right=False)}  {text}"))


def _print_dim(caption: str) -> None:
    from rich.console import Console
    from rich.text import Text

    Console(highlight=False).print(Text(shown(caption), style="dim"))
