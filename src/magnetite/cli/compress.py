"""`magnetite compress`."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.formats import FormatOption, Output, OutputFormat, emit
from magnetite.cli.options import (
    FullScaleOption,
    ReferenceArgument,
    check_whole,
    limits,
    note,
    protect,
    rows_of,
)
from magnetite.cli.output import print_table, say, say_done
from magnetite.cli.score_output import score_words
from magnetite.core.table import Table

if TYPE_CHECKING:
    from magnetite.core.operations.coding import Account
    from magnetite.core.picture.rows import Rows


def run(
    ref: ReferenceArgument,
    out: Annotated[Path, typer.Argument(metavar="OUT.mgt", help="Compressed picture to write.")],
    step: Annotated[
        list[str], typer.Argument(metavar="STEP…", help="Codec, as in: dct step=8dn block=16")
    ],
    rate: Annotated[
        str | None,
        typer.Option(
            help="Find the setting for at most this many bits per pixel.", metavar="0.5bpp"
        ),
    ] = None,
    ratio: Annotated[
        float | None,
        typer.Option(help="The same, for a file this many times smaller than the samples."),
    ] = None,
    aim: Annotated[
        str | None,
        typer.Option(
            help="Find the setting for a score, as in psnr=36; the least rate for 'ssim>=0.95'.",
            metavar="METRIC=VALUE",
        ),
    ] = None,
    decoded: Annotated[
        Path | None,
        typer.Option(help="Also write the picture as a decoder gets it.", metavar="PICTURE"),
    ] = None,
    full_scale: FullScaleOption = None,
    format: FormatOption = OutputFormat.table,
) -> None:
    from magnetite.core.chain.notation import as_step
    from magnetite.core.errors import FileError
    from magnetite.core.operations.compress import compress, compressing
    from magnetite.core.operations.rate import open_step
    from magnetite.files.atomic import check_writable, write_bytes
    from magnetite.files.resources import DiskFiles
    from magnetite.files.streams import write_coded_rows
    from magnetite.files.writing import check_output

    if out.suffix.lower() != ".mgt":
        raise FileError(f"{out}: a compressed picture has the ending .mgt")
    protect([ref], [out, *([decoded] if decoded else [])])
    searched = any(option is not None for option in (rate, ratio, aim))
    text = " ".join(step)
    codec = open_step(text)[0] if searched else as_step(text, "codec")
    source = rows_of(ref, full_scale)
    check_writable(out)
    if decoded:
        check_output(
            source.frame, decoded, banded=not limits.allowance.of(source).fits(source.frame)
        )
    start = time.perf_counter()
    if searched:
        check_whole(source, "--rate, --ratio and --aim need the whole picture: write the setting")
        made = compress(source, codec, rate=rate, ratio=ratio, aim=aim, files=DiskFiles())
        write_bytes(out, made.data)
        note("" if made.aim is None else made.aim.words)
        account: Account = made
    else:
        job = compressing(source, codec, limits.allowance)
        note(job.note)
        account = write_coded_rows(out, job)
    verb = f"{'found and coded' if searched else 'coded'} in {time.perf_counter() - start:.2f} s"
    words, messages = _decode(source, out, decoded)
    said = f"{words[0]}; {verb}, {words[1]}"
    emit(format, Output([account.table()], people=lambda: _print(account, said)))
    for message in (*account.remarks, *messages):
        note(message)
    if format is OutputFormat.table:
        say_done(f"wrote {out}{f' and {decoded}' if decoded else ''}")


def _decode(
    source: Rows, out: Path, decoded: Path | None
) -> tuple[tuple[str, str], tuple[str, ...]]:
    """Decode and score the stream, from its file: both in words, and notes on the written picture.

    A picture that is not held whole is decoded while it is written and scored.
    """
    from magnetite.core.picture import Picture
    from magnetite.core.picture.rows import bands_of
    from magnetite.files.writing import write_rows

    start = time.perf_counter()
    result: Rows = rows_of(out, conversion=False)
    messages: tuple[str, ...] = ()
    seconds, whole = time.perf_counter() - start, isinstance(result, Picture)
    if decoded:
        messages = write_rows(decoded, result.frame, bands_of(result))
        result = result if whole else rows_of(decoded, conversion=False)
    words = f"{score_words(source, result, limits.allowance)} (peak {source.frame.full_scale:g})"
    if whole:
        return (words, f"decoded in {seconds:.2f} s"), messages
    both = f"decoded and scored in {time.perf_counter() - start:.2f} s"
    return (words, both), (*messages, "the picture was coded in slabs")


def _print(account: Account, words: str) -> None:
    parts = [[name, count, 100 * count / account.size] for name, count in account.parts.items()]
    lines = [*parts, ["whole file", account.size, 100.0]]
    print_table(Table.of(["part", "bytes", "share %"], lines))
    say(
        f"{account.step}: {account.bpp:.4f} bpp, "
        f"ratio {account.ratio:.2f} against the source's samples"
    )
    say(words)
