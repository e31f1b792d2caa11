"""Tables for people, JSON and CSV for programs."""

from __future__ import annotations

import json
import re
import sys
from collections.abc import Sequence
from typing import Any

from magnetite.core.quantities import figure
from magnetite.files.names import shown
from magnetite.files.tables import Cell, csv_text, plain_value


def say(text: str = "") -> None:
    """A line for people, with nothing in it that a terminal would obey."""
    print(shown(text))


def print_table(
    titles: Sequence[str], rows: Sequence[Sequence[Cell]], caption: str | None = None
) -> None:
    """A table on a terminal; aligned plain text, never cut, anywhere else.

    Columns of numbers, or of text that begins like one, are aligned to the right.
    """
    texts = [[shown(c) if isinstance(c, str) else figure(c) for c in row] for row in rows]
    numeric = [all(_is_figure(line[i]) for line in texts) for i in range(len(titles))]
    if sys.stdout.isatty():
        _print_rich(titles, texts, numeric, caption)
        return
    columns = list(zip(titles, *texts, strict=True))
    widths = [max(map(len, column)) for column in columns]
    for line in (titles, *texts):
        cells = (
            text.rjust(width) if right else text.ljust(width)
            for text, width, right in zip(line, widths, numeric, strict=True)
        )
        print("  ".join(cells).rstrip())
    if caption:
        say(caption)


def _is_figure(text: str) -> bool:
    return re.fullmatch(r"(≤ ?)?[-+−]?[\d.]*(e[-+]\d+)?∞?[* ]?|–", text) is not None


def _print_rich(
    titles: Sequence[str], texts: list[list[str]], numeric: list[bool], caption: str | None
) -> None:
    from rich import box
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, show_edge=False)
    for title, right in zip(titles, numeric, strict=True):
        table.add_column(Text(title), justify="right" if right else "left", overflow="fold")
    for line in texts:
        table.add_row(*(Text(text) for text in line))
    console = Console(highlight=False)
    console.print(table)
    if caption:
        console.print(Text(shown(caption), style="dim"))


def print_json(content: dict[str, Any]) -> None:
    """One JSON document on standard output."""
    print(json.dumps(_plain_tree(content), indent=2, ensure_ascii=False, allow_nan=False))


def _plain_tree(content: Any) -> Any:
    if isinstance(content, dict):
        return {key: _plain_tree(value) for key, value in content.items()}
    if isinstance(content, list | tuple):
        return [_plain_tree(value) for value in content]
    return plain_value(content)


def print_csv(titles: Sequence[str], rows: Sequence[Sequence[Cell]]) -> None:
    """CSV (RFC 4180, lines end in \\n) on standard output, figures in full."""
    print(csv_text(titles, rows), end="")
