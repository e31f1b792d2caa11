"""`magnetite selftest`: check this installation."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.output import say, say_done
from magnetite.cli.progress import working
from magnetite.core.errors import InputError
from magnetite.core.table import Table

if TYPE_CHECKING:
    from magnetite.selftest.checks import Result

_ENDINGS = (".txt", ".json", ".pdf")
#: Exit status where a check failed.
FAILED = 1


def run(
    out: Annotated[
        Path | None, typer.Option(help="File for the record: .txt, .json or .pdf.", metavar="FILE")
    ] = None,
    format: FormatOption = OutputFormat.table,
) -> int:
    """Each check computes a figure that a closed form or a publication states.

    Exit status 0 if all pass, 1 if one fails.
    """
    from magnetite.files.atomic import check_writable
    from magnetite.selftest import record
    from magnetite.selftest.checks import results

    if out is not None:
        if out.suffix.lower() not in _ENDINGS:
            raise InputError(f"{out}: the record is written as {', '.join(_ENDINGS)}")
        check_writable(out)
    with working("selftest"):
        found, about = list(results()), record.facts()
    table = Table.of(record.TITLES, record.rows(found))
    emit(format, Output([table], record.as_record(found, about)))
    if format is OutputFormat.table:
        say(f"\n{record.summary(found)}; code {about['code'][:16]}")
    if out is not None:
        _write(out, found, about)
        if format is OutputFormat.table:
            say_done(f"wrote {out}")
    return 0 if all(one.passed for one in found) else FAILED


def _write(out: Path, found: list[Result], about: dict[str, str]) -> None:
    """The record in the format that the file's ending names."""
    from magnetite.files.atomic import write_bytes
    from magnetite.files.sidecar import write_json
    from magnetite.selftest.record import as_record, as_text

    ending = out.suffix.lower()
    if ending == ".json":
        write_json(out, as_record(found, about))
    elif ending == ".txt":
        write_bytes(out, as_text(found, about).encode())
    else:
        from magnetite.selftest.document import pdf

        write_bytes(out, pdf(found, about))
