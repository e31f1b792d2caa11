"""Pictures that are read in bands of rows, because all of them would not fit into memory."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np

from magnetite.core.compute.bands import bands
from magnetite.core.errors import LimitError
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.picture import Picture, digest_header, frozen

#: Bytes that the program and its libraries take beside samples.
_PROGRAM = 300 * 2**20
#: Bands are this many rows high or a multiple of it: loops over bands then sum up alike.
STEP = 256
#: Samples of a band of which only the digest is taken.
_DIGESTED = 2**24


class Rows(Protocol):
    """A picture of which any rows can be read."""

    @property
    def frame(self) -> Frame: ...

    @property
    def origin(self) -> str:
        """Where the picture comes from, for messages."""
        ...

    def part(self, rows: slice) -> Picture:
        """Some rows as a picture of their own."""
        ...


@dataclass(frozen=True)
class PictureRows:
    """A picture in memory as one that is read in bands."""

    picture: Picture

    @property
    def frame(self) -> Frame:
        return self.picture.frame

    @property
    def origin(self) -> str:
        return self.picture.origin

    def part(self, rows: slice) -> Picture:
        one = self.picture
        return Picture(one.samples[rows], one.bits, one.colour, one.origin)


@dataclass(frozen=True)
class Band:
    """Some rows with the rows around them."""

    #: The rows that the band gives results for, of the whole picture.
    rows: slice
    #: Those that it reads, of the whole picture.
    around: slice
    pictures: tuple[Picture, ...]

    @property
    def own(self) -> slice:
        """The band's rows within what it reads."""
        return slice(self.rows.start - self.around.start, self.rows.stop - self.around.start)


def band_height(frame: Frame, cost: float, memory: int, reach: int = 0) -> int:
    """Rows of a band that takes `cost` bytes for each sample and `reach` rows on either side.

    Raises
    ------
    LimitError
        If the memory does not suffice for the smallest band.
    """
    row = frame.width * frame.channels * cost
    check_memory(row * (STEP + 2 * reach), memory)
    height = int((memory - _PROGRAM) / row) - 2 * reach
    return height // STEP * STEP


def check_memory(needed: float, memory: int) -> None:
    """Raise `LimitError` if memory does not suffice for `needed` bytes of a band."""
    least = (_PROGRAM + needed) / 2**20
    if least * 2**20 > memory:
        raise LimitError(
            f"{memory / 2**20:.0f} MiB of memory do not suffice for a band of this picture: "
            f"allow {math.ceil(least)} MiB (--memory {math.ceil(least)}MiB)"
        )


def in_bands(height: int, *sources: Rows, before: int = 0, after: int = 0) -> Iterator[Band]:
    """Bands of pictures of one size; the next one is read while one is worked on.

    Parameters
    ----------
    height : int
        Rows of a band.
    sources : Rows
    before, after : int
        Rows that a band needs above and below its own; there are fewer at the picture's edges.
    """
    total = sources[0].frame.height

    def read(rows: slice) -> Band:
        around = slice(max(0, rows.start - before), min(total, rows.stop + after))
        return Band(rows, around, tuple(source.part(around) for source in sources))

    with ThreadPoolExecutor(1) as pool:
        parts = bands(total, height)
        coming = pool.submit(read, parts[0])
        for following in [*parts[1:], None]:
            band = coming.result()
            if following is not None:
                coming = pool.submit(read, following)
            yield band


def bands_of(source: Rows, height: int = STEP) -> Iterator[Picture]:
    """All of a picture in bands of `height` rows."""
    return (band.pictures[0] for band in in_bands(height, source))


def joined(bands: Iterable[Picture]) -> Picture:
    """A picture of its bands, from the top."""
    first, *others = bands
    samples = np.concatenate([first.samples, *(band.samples for band in others)])
    return replace(first, samples=frozen(samples))


def digest_of(source: Rows) -> bytes:
    """`Picture.digest` of a picture that is read in bands."""
    frame = source.frame
    height = max(1, _DIGESTED // (frame.width * frame.channels))
    content = None
    for band in in_bands(height, source):
        samples = np.ascontiguousarray(band.pictures[0].samples)
        content = content or hashlib.sha256(digest_header(frame.shape, frame.bits, samples.dtype))
        content.update(samples.reshape(-1).view(np.uint8).data)
    return b"" if content is None else content.digest()
