"""Options and checks that several commands share."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from magnetite.core.errors import FileError, InputError
from magnetite.core.limits import MAX_SAMPLES, MEMORY
from magnetite.files.atomic import LONGEST_NAME
from magnetite.files.names import shown

if TYPE_CHECKING:
    from magnetite.core.chain.step import Chain
    from magnetite.core.picture import Picture
    from magnetite.core.picture.rows import Allowance, Rows


FullScaleOption = Annotated[
    float | None,
    typer.Option(
        help="Sample value that means full scale, where the files do not say: "
        "4095 for 12 bits in a 16-bit file, 255 for float samples on 0..255.",
        metavar="VALUE",
    ),
]
RegionOption = Annotated[
    str | None,
    typer.Option(
        help="Part of the picture, in px, as in 120,80,64x48.", metavar="LEFT,TOP,WIDTHxHEIGHT"
    ),
]
SeedOption = Annotated[
    int, typer.Option(help="Same seed, same noise.", metavar="N", min=0, max=2**63 - 1)
]
ReferenceArgument = Annotated[Path, typer.Argument(metavar="REF", help="Reference picture.")]
StepsArgument = Annotated[
    list[str], typer.Argument(metavar="STEPS…", help="Chain: name key=value … + name key=value …")
]


def note(message: str) -> None:
    """Say something to the user on standard error, unless it is empty or --quiet is given."""
    if message and not limits.quiet:
        print(f"note: {shown(' '.join(message.split()))}", file=sys.stderr)


@dataclass
class Limits:
    """Values of the program's options."""

    max_samples: int = MAX_SAMPLES
    #: Files of the user's own commands, for worker processes.
    commands: tuple[Path, ...] = ()
    #: Bytes from which on pictures are worked on in bands.
    memory: int = MEMORY
    #: Conversion of every picture that is read.
    conversion: Chain | None = None
    #: Whether only results and errors are said.
    quiet: bool = False

    @property
    def allowance(self) -> Allowance:
        """Memory and samples that an operation may take."""
        from magnetite.core.picture.rows import Allowance

        return Allowance(self.memory, self.max_samples)


limits = Limits()


def load(path: Path, full_scale: float | None = None, *, conversion: bool = True) -> Picture:
    """Read a picture and print the notes of the reader; without `conversion` as it is."""
    from magnetite.files.reading import read

    picture = read(path, full_scale=full_scale, max_samples=limits.max_samples)
    for message in picture.notes:
        note(f"{path}: {message}")
    if limits.conversion is None or not conversion:
        return picture
    from magnetite import convert

    return convert(picture, limits.conversion)


def load_distinct(
    paths: Iterable[Path], full_scale: float | None
) -> Iterator[tuple[Path, Picture]]:
    """Files with their pictures, each once; see `is_new`."""
    known: dict[bytes, Path] = {}
    for path in paths:
        picture = load(path, full_scale)
        if is_new(known, picture, path):
            yield path, picture


def is_new(known: dict[bytes, Path], picture: Rows, path: Path) -> bool:
    """Whether no earlier file holds the same samples; a note names the copies."""
    from magnetite.core.picture.rows import digest_of

    first = known.setdefault(digest_of(picture), path)
    if first is path:
        return True
    words = "is named twice" if first == path else f"holds the same samples as {first}"
    note(f"{path} {words}: it counts once")
    return False


def rows_of(path: Path, full_scale: float | None = None, *, conversion: bool = True) -> Rows:
    """A picture of any size: in memory where it fits, else read in bands where its file can be.

    Without `conversion` it stays as it is in the file, whatever `--convert` says.
    """
    from magnetite.files.row_access import open_rows

    rows = open_rows(path, full_scale)
    chain = limits.conversion if conversion else None
    if rows is None or limits.allowance.fits(rows.frame):
        return load(path, full_scale, conversion=conversion)
    if chain is None:
        return rows
    from magnetite.core.operations.convert import converting

    return converting(rows, chain, limits.allowance)


def check_whole(source: Rows, words: str) -> None:
    """Raise `InputError` with these words where a picture has too many samples to be held whole."""
    frame = source.frame
    if frame.plane * frame.channels > limits.max_samples:
        raise InputError(f"{source.origin}: {words}, or allow more samples (--max-samples)")


def protect(inputs: Sequence[Path], outputs: Sequence[Path]) -> None:
    """Raise `FileError` if an output would replace an input, or cannot have its name."""
    for output in outputs:
        if len(os.fsencode(output.name)) > LONGEST_NAME:
            raise FileError(
                f"{output.name}: a file name may have {LONGEST_NAME} bytes; rename its input"
            )
        for source in inputs:
            if source.exists() and output.exists() and output.samefile(source):
                raise FileError(f"{output}: would replace the input {source}; name another file")


def note_earlier(outputs: Sequence[Path], written: Sequence[Path]) -> None:
    """Note the files of an earlier call among the possible outputs of a command."""
    if earlier := [str(path) for path in outputs if path not in written and path.is_file()]:
        note(f"left by an earlier call: {', '.join(earlier)}")


def promise_of(share: str | None, confidence: str | None) -> tuple[float | None, float | None]:
    """Share and confidence of a guarantee, as far as they are stated."""
    return stated_share("--share", share), stated_share("--confidence", confidence)


def stated_share(option: str, text: str | None) -> float | None:
    """The value of an option that is a share, if it is given."""
    return None if text is None else share_of(option, text)


def share_of(option: str, text: str) -> float:
    """The value of an option that is a share, such as `95%`; `InputError` for anything else."""
    from magnetite.core.methods.parameters import Share

    try:
        return float(Share().parse(text))
    except ValueError as error:
        raise InputError(f"{option}: {error}") from None
