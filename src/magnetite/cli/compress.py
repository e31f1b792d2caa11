"""`magnetite compress`."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import FullScaleOption, ReferenceArgument, load, note, protect
from magnetite.cli.output import print_table, say, say_done
from magnetite.cli.score_output import score_words
from magnetite.core.errors import InputError
from magnetite.files.tables import Cell


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
    reference = load(ref, full_scale)
    check_writable(out)
    if decoded:
        check_output(reference, decoded)
    start = time.perf_counter()
    bpp = None if rate is None else _rate(rate)
    compressed = compress(reference, " ".join(step), bpp=bpp, ratio=ratio, aim=aim)
    coded = time.perf_counter()
    picture = compressed.picture
    end = time.perf_counter()
    write_bytes(out, compressed.data)
    messages = write(picture, decoded) if decoded else ()
    if compressed.aim is not None:
        note(compressed.aim.words)

    verb = "coded" if rate is None and ratio is None and aim is None else "found and coded"
    size = len(compressed.data)
    parts: list[list[Cell]] = [
        [name, count, 100 * count / size] for name, count in compressed.parts.items()
    ]
    print_table(["part", "bytes", "share %"], [*parts, ["whole file", size, 100.0]])
    say(
        f"{compressed.step}: {compressed.bpp:.4f} bpp, "
        f"ratio {compressed.ratio:.2f} against the source's samples"
    )
    say(
        f"{score_words(reference, picture)} (peak {reference.full_scale:g}); "
        f"{verb} in {coded - start:.2f} s, decoded in {end - coded:.2f} s"
    )
    for message in (*compressed.remarks, *messages):
        note(message)
    say_done(f"wrote {out}{f' and {decoded}' if decoded else ''}")


def _rate(text: str) -> float:
    from magnetite.core.quantities import read_number

    try:
        return read_number(text.removesuffix("bpp"))
    except ValueError:
        raise InputError(
            f"--rate {text} is not a rate: write bits per pixel, as in 0.5bpp"
        ) from None
