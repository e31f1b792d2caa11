"""The record of a self-test as a PDF document."""

from __future__ import annotations

import io
from collections.abc import Sequence
from typing import Any

from magnetite.selftest.checks import Result
from magnetite.selftest.record import TITLES, rows, summary
from magnetite.views.style import new_figure

#: Width and height of a page, px of 100 per inch: A4 across; rows of the table on one.
_PAGE, _ROWS = (1169, 827), 34
#: Left ends of the columns, shares of the page.
_COLUMNS = (0.04, 0.30, 0.36, 0.42, 0.48, 0.58, 0.64)


def pdf(found: Sequence[Result], about: dict[str, str]) -> bytes:
    """Facts and table, on as many pages as they take."""
    table = rows(found)
    parts = [table[k : k + _ROWS] for k in range(0, len(table), _ROWS)]
    pages = []
    for number, part in enumerate(parts):
        page = new_figure(*_PAGE)
        top = _head(page, about, summary(found)) if number == 0 else 0.94
        _table(page, part, top)
        page.text(0.96, 0.03, f"page {number + 1} of {len(parts)}", ha="right", size=7)
        pages.append(page)
    from matplotlib.backends.backend_pdf import PdfPages

    buffer = io.BytesIO()
    with PdfPages(buffer, metadata={"Title": "Magnetite self-test"}) as document:
        for page in pages:
            document.savefig(page)
    return buffer.getvalue()


def _head(page: Any, about: dict[str, str], words: str) -> float:
    """Title, summary and facts; the height at which the table begins."""
    page.text(0.04, 0.94, "Magnetite self-test", size=14, weight="bold")
    page.text(0.04, 0.91, words, size=9)
    short = [f"{name} {value}" for name, value in about.items() if name != "code"]
    half = -(-len(short) // 2)
    page.text(0.04, 0.885, "   ".join(short[:half]), size=7)
    page.text(0.04, 0.865, "   ".join(short[half:]), size=7)
    page.text(0.04, 0.845, f"code {about['code']} (SHA-256)", size=7, family="monospace")
    return 0.80


def _table(page: Any, part: Sequence[Sequence[str]], top: float) -> None:
    step = 0.021
    for k, row in enumerate([TITLES, *part]):
        height = top - k * step
        failed = k > 0 and row[TITLES.index("verdict")] != "passed"
        style = {"color": "tab:red" if failed else "black", "weight": "normal" if k else "bold"}
        for left, cell in zip(_COLUMNS, row, strict=True):
            page.text(left, height, cell[:70], size=6.5, **style)
