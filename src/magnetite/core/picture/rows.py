"""Pictures as streams of rows: in memory, in one band, or in as many as the memory allows."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from typing import Any, Protocol, runtime_checkable

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.compute.bands import bands
from magnetite.core.errors import InputError, LimitError
from magnetite.core.limits import BYTES_PER_SAMPLE, MAX_SAMPLES, MEMORY
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.picture import Picture, as_picture, digest_header, frozen

#: Bytes that the program and its libraries take besides samples.
_PROGRAM = 300 * 2**20
#: Bands are this many rows high or a multiple of it: loops over bands then sum up alike.
STEP = 256
#: Samples of a band of which only the digest is taken.
_DIGESTED = 2**24


@runtime_checkable
class Rows(Protocol):
    """A picture of which any rows can be read: one in memory, or in a file."""

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
class Allowance:
    """Memory that an operation may take, and samples that it may hold at once.

    Pictures that would take more memory are worked on in bands.
    """

    memory: int = MEMORY
    samples: int = MAX_SAMPLES

    def of(self, *sources: Rows) -> Allowance:
        """The same, or no bound where all sources are in memory already: each is one band."""
        return UNBOUNDED if all(isinstance(one, Picture) for one in sources) else self

    def fits(self, frame: Frame) -> bool:
        """Whether a picture may be worked on whole with the memory."""
        return math.prod(frame.shape) * BYTES_PER_SAMPLE <= self.memory

    def height(self, frame: Frame, cost: float, reach: int, obstacle: InputError | None) -> int:
        """Rows of a band of a picture; all of them where it fits, or is taken whole anyway.

        Parameters
        ----------
        frame : Frame
        cost : float
            Bytes for each sample of a band.
        reach : int
            Rows above and below a band that are read with it.
        obstacle : InputError or None
            Why the operation needs the whole picture, if it does.

        Raises
        ------
        InputError
            The obstacle, where the picture has more samples than are allowed.
        LimitError
            If the memory does not suffice for the smallest band.
        """
        if self.fits(frame):
            return frame.height
        if obstacle is None:
            return min(frame.height, band_height(frame, cost, self.memory, reach))
        if math.prod(frame.shape) > self.samples:
            raise obstacle
        return frame.height


#: For pictures that are in memory already: all of them in one band.
UNBOUNDED = Allowance(2**62, 2**62)


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
        """The band's rows within those that it reads."""
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

    parts = bands(total, height)
    if len(parts) == 1:
        yield read(parts[0])
        return
    with ThreadPoolExecutor(1) as pool:
        coming = pool.submit(read, parts[0])
        for following in [*parts[1:], None]:
            band = coming.result()
            if following is not None:
                coming = pool.submit(read, following)
            yield band


def bands_of(source: Rows, height: int = STEP) -> Iterator[Picture]:
    """All of a picture in bands of `height` rows; one in memory as it is."""
    if isinstance(source, Picture):
        return iter([source])
    return (band.pictures[0] for band in in_bands(height, source))


def as_rows(source: Rows | Samples) -> Rows:
    """A picture as it is, or an array as `as_picture` takes it."""
    return source if isinstance(source, Rows) else as_picture(source)


def whole(source: Rows) -> Picture:
    """All of a picture."""
    return source.part(slice(0, source.frame.height))


def joined(bands: Iterable[Picture]) -> Picture:
    """A picture of its bands, from the top."""
    first, *others = bands
    if not others:
        return first
    samples = np.concatenate([first.samples, *(band.samples for band in others)])
    return replace(first, samples=frozen(samples))


def digest_of(source: Rows) -> bytes:
    """`Picture.digest` of a picture that is read in bands."""
    if isinstance(source, Picture):
        return source.digest()
    frame = source.frame
    height = max(1, _DIGESTED // (frame.width * frame.channels))
    content = BandsDigest(frame.height)
    for band in in_bands(height, source):
        content.add(band.pictures[0])
    return content.digest()


@dataclass
class BandsDigest:
    """`Picture.digest` of a picture of known height, whose bands are added from the top."""

    height: int
    _content: Any = field(default=None, init=False)

    def add(self, band: Picture) -> None:
        """Add the next band."""
        samples = np.ascontiguousarray(band.samples)
        shape = (self.height, *samples.shape[1:])
        self._content = self._content or hashlib.sha256(
            digest_header(shape, band.bits, samples.dtype)
        )
        self._content.update(samples.reshape(-1).view(np.uint8).data)

    def digest(self) -> bytes:
        """Of all bands; empty before the first one."""
        return b"" if self._content is None else bytes(self._content.digest())
