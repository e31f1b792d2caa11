"""`magnetite compress`."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Annotated

import typer

from magnetite.cli.options import FullScaleOption, ReferenceArgument, load, note, protect
from magnetite.cli.output import print_table
from magnetite.cli.score_output import score_words


def run(
    ref: ReferenceArgument,
    out: Annotated[Path, typer.Argument(metavar="OUT.mgt", help="Compressed picture to write.")],
    step: Annotated[
        list[str], typer.Argument(metavar="STEP…", help="Codec, as in: dct step=8dn block=16")
    ],
    decoded: Annotated[
        Path | None,
        typer.Option(help="Also write the picture as a decoder gets it.", metavar="PICTURE"),
    ] = None,
    full_scale: FullScaleOption = None,
) -> None:
    """Compress a picture into a file that decodes by itself; print its rate and scores."""
    from magnetite.core.codecs.stream import compress
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
    compressed = compress(reference, " ".join(step))
    coded = time.perf_counter()
    picture = compressed.picture
    end = time.perf_counter()
    write_bytes(out, compressed.data)
    messages = write(picture, decoded) if decoded else ()

    size = len(compressed.data)
    parts = [[name, count, 100 * count / size] for name, count in compressed.parts.items()]
    print_table(["part", "bytes", "share %"], [*parts, ["whole file", size, 100.0]])
    print(
        f"{compressed.step}: {compressed.bpp:.4f} bpp, "
        f"ratio {compressed.ratio:.2f} against the source's samples"
    )
    print(
        f"{score_words(reference, picture)} (peak {reference.full_scale:g}); "
        f"coded in {coded - start:.2f} s, decoded in {end - coded:.2f} s"
    )
    for message in messages:
        note(message)
    print(f"wrote {out}{f' and {decoded}' if decoded else ''}")
