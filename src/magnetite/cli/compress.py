"""`magnetite compress`."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.cli.larger import check_whole, in_bands_or_whole, larger_than_memory
from magnetite.cli.options import (
    FullScaleOption,
    ReferenceArgument,
    limits,
    load,
    note,
    protect,
)
from magnetite.cli.output import print_table, say, say_done
from magnetite.cli.score_output import score_words, words_of
from magnetite.files.tables import Cell

if TYPE_CHECKING:
    from collections.abc import Iterable

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
) -> None:
    from magnetite import compress
    from magnetite.core.errors import FileError
    from magnetite.files.atomic import check_writable, write_bytes
    from magnetite.files.writing import check_output, write

    if out.suffix.lower() != ".mgt":
        raise FileError(f"{out}: a compressed picture has the ending .mgt")
    protect([ref], [out, *([decoded] if decoded else [])])
    searched = any(option is not None for option in (rate, ratio, aim))
    large = larger_than_memory(ref, full_scale=full_scale)
    if large and searched:
        check_whole(large[0], "--rate, --ratio and --aim need the whole picture: write the setting")
    elif large and _in_bands(large[0], out, " ".join(step), decoded):
        return
    reference = load(ref, full_scale)
    check_writable(out)
    if decoded:
        check_output(reference, decoded)
    start = time.perf_counter()
    compressed = compress(reference, " ".join(step), rate=rate, ratio=ratio, aim=aim)
    coded = time.perf_counter()
    picture = compressed.picture
    end = time.perf_counter()
    write_bytes(out, compressed.data)
    messages = write(picture, decoded) if decoded else ()
    if compressed.aim is not None:
        note(compressed.aim.words)

    verb = "found and coded" if searched else "coded"
    words = (
        f"{score_words(reference, picture)} (peak {reference.full_scale:g}); "
        f"{verb} in {coded - start:.2f} s, decoded in {end - coded:.2f} s"
    )
    _say(compressed, words, messages, out, decoded)


def _in_bands(rows: Rows, out: Path, step: str, decoded: Path | None) -> bool:
    """Compress a file that is larger than the memory allowed; False where it is read whole."""
    from magnetite.core.operations.banded_coding import CodedRows
    from magnetite.core.operations.banded_figures import score_rows
    from magnetite.core.picture.rows import bands_of
    from magnetite.files.atomic import check_writable
    from magnetite.files.row_access import check_output, open_rows, write_rows
    from magnetite.files.streams import write_coded_rows

    coded = in_bands_or_whole(rows.frame, lambda: CodedRows(rows, step, limits.memory))
    if coded is None:
        return False
    if decoded:
        check_output(decoded)
        check_writable(decoded)
    start = time.perf_counter()
    account = write_coded_rows(out, coded)
    end = time.perf_counter()
    result = open_rows(out)
    assert result is not None  # it was just written, slab by slab
    if decoded:
        write_rows(decoded, rows.frame, bands_of(result))
        result = open_rows(decoded) or result
    scores = score_rows(rows, result, "psnr,ssim", limits.memory, strict=False)
    words = (
        f"{words_of(scores)} (peak {rows.frame.full_scale:g}); coded in {end - start:.2f} s, "
        f"decoded and scored in {time.perf_counter() - end:.2f} s"
    )
    _say(account, words, ("the picture was coded in slabs",), out, decoded)
    return True


def _say(
    account: Account, words: str, messages: Iterable[str], out: Path, decoded: Path | None
) -> None:
    parts: list[list[Cell]] = [
        [name, count, 100 * count / account.size] for name, count in account.parts.items()
    ]
    print_table(["part", "bytes", "share %"], [*parts, ["whole file", account.size, 100.0]])
    say(
        f"{account.step}: {account.bpp:.4f} bpp, "
        f"ratio {account.ratio:.2f} against the source's samples"
    )
    say(words)
    for message in (*account.remarks, *messages):
        note(message)
    say_done(f"wrote {out}{f' and {decoded}' if decoded else ''}")
