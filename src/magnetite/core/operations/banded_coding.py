"""Compress and expand pictures slab by slab, whatever their size."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from magnetite.core.chain.bind import bind_step
from magnetite.core.chain.notation import parse_step
from magnetite.core.codecs.layers.container import Header
from magnetite.core.codecs.layers.pipeline import Run, Section
from magnetite.core.codecs.layers.slabs import Slabs
from magnetite.core.errors import InputError, StreamError
from magnetite.core.methods.declarations import Codec
from magnetite.core.operations.coding import (
    Account,
    check_planes,
    decoded_picture,
    decoding,
    pipeline_of,
    runs_of,
)
from magnetite.core.picture import Picture
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.rows import Rows, check_memory, in_bands, joined

#: Decoded slabs that are kept: a band may begin in one and end in the next.
_KEPT = 2


class CodedRows:
    """A picture that is coded slab by slab: iterate for the sections, then ask for the account.

    Parameters
    ----------
    source : Rows
    step : str
        A codec that codes slabs, with its settings.
    memory : int
        Bytes that may be used.

    Raises
    ------
    ChainError
        If the step cannot be read or used on this picture.
    InputError
        If the codec needs the whole picture.
    LimitError
        If the memory does not suffice for a slab.
    """

    def __init__(self, source: Rows, step: str, memory: int) -> None:
        check_planes(source)
        parsed = parse_step(step, "codec")
        self._source, self.step = source, str(parsed)
        self._codec = bind_step(parsed, source.frame)
        coder = pipeline_of(self._codec)
        if not isinstance(coder, Slabs):
            raise InputError(
                f"{step}: codes the whole picture at once; allow more memory (--memory), or take a "
                "part of the picture (magnetite convert)"
            )
        self._slabs = coder
        row = source.frame.width * source.frame.channels * self._codec.memory
        check_memory(coder.height * row, memory)
        self._runs: list[Run] = []
        self._remarks: list[str] = []
        self._bits = 0

    @property
    def frame(self) -> Frame:
        """Of the picture."""
        return self._source.frame

    def __iter__(self) -> Iterator[Section]:
        """Sections of the stream, in their order."""
        self._runs, self._remarks = [], []
        remark = self._codec.step.declared(Codec).remark
        for band in in_bands(self._slabs.height, self._source):
            (picture,) = band.pictures
            sections = self._slabs.pipeline(band.rows).forward(picture.pixels())
            if remark:
                self._remarks += remark(picture.frame, sections, self._codec.settings)
            self._runs += [run for section in sections for run in runs_of(section)]
            self._bits = picture.sample_bits
            yield from sections

    def account(self, header: int) -> Account:
        """Where the bytes go, once all sections were taken; `header` is the header's length."""
        runs, frame = (Run("header", header), *self._runs), self.frame
        samples = frame.height * frame.width * frame.channels
        remarks = tuple(dict.fromkeys(self._remarks))
        return Account(self.step, runs, frame.height * frame.width, samples * self._bits, remarks)


def slabs_of_stream(header: Header) -> Slabs | None:
    """The decoder of a stream slab by slab; None for one that is decoded as a whole.

    Raises
    ------
    StreamError
        If its step cannot be used.
    """
    coder = decoding(header.step, header.frame)
    return coder if isinstance(coder, Slabs) else None


class ExpandedRows:
    """A stream of slabs as a picture of which any rows can be read; see `Rows`.

    Parameters
    ----------
    slabs : Slabs
    count : int
        Sections of the stream.
    section : function
        The bytes of a section by its number.
    origin : str
        Where the stream comes from, for messages.

    Raises
    ------
    StreamError
        If the sections are not those of slabs.
    """

    def __init__(
        self, slabs: Slabs, count: int, section: Callable[[int], bytes], origin: str
    ) -> None:
        self._slabs, self._section, self._origin = slabs, section, origin
        self._each = slabs.sections_of_slab(count)
        self._kept: dict[int, Picture] = {}

    @property
    def frame(self) -> Frame:
        return self._slabs.frame

    @property
    def origin(self) -> str:
        return self._origin

    def part(self, rows: slice) -> Picture:
        """Some rows, decoded with the slabs that they lie in."""
        first, last, _ = rows.indices(self.frame.height)
        height = self._slabs.height
        touched = range(first // height, -(-last // height))
        return joined(self._rows_of(i, first, last) for i in touched)

    def _rows_of(self, index: int, first: int, last: int) -> Picture:
        """Those of the rows that lie in a slab."""
        start = self._slabs.part(index).start
        slab = self._decoded(index)
        own = slice(max(0, first - start), last - start)
        return Picture(slab.samples[own], slab.bits, slab.colour, self._origin)

    def _decoded(self, index: int) -> Picture:
        if index not in self._kept:
            sections = [self._section(index * self._each + k) for k in range(self._each)]
            try:
                pixels = self._slabs.pipeline(self._slabs.part(index)).backward(sections)
            except StreamError as error:
                raise StreamError(f"{self._origin}: slab {index + 1}: {error}") from None
            while len(self._kept) >= _KEPT:
                del self._kept[min(self._kept)]
            self._kept[index] = decoded_picture(self.frame, pixels)
        return self._kept[index]
