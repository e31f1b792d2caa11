"""Pictures to `.mgt` bytes and back, by a codec whose settings are known."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

from magnetite.core.arrays import Pixels
from magnetite.core.chain.bind import Bound, bind_step
from magnetite.core.chain.step import Step
from magnetite.core.codecs.layers.container import MAX_PLANES, Stream
from magnetite.core.codecs.layers.pipeline import ByteCount, Memory, Section
from magnetite.core.codecs.layers.slabs import Slabs
from magnetite.core.errors import InputError, PictureError
from magnetite.core.methods.declarations import Codec
from magnetite.core.operations.aim import Aim
from magnetite.core.operations.expand import expand, pipeline_of
from magnetite.core.operations.local import REMEDY, whole_note
from magnetite.core.picture import Frame, Picture
from magnetite.core.picture.matching import Framed
from magnetite.core.picture.rows import UNBOUNDED, Allowance, Rows, check_memory, in_bands
from magnetite.core.table import Row, Tabular


@dataclass(frozen=True, repr=False)
class Account(Tabular):
    """Where the bytes of a compressed picture go."""

    #: Canonical text of the codec with its settings.
    step: str
    #: Labelled byte counts in order of the file; they add up to `size`.
    runs: tuple[ByteCount, ...] = field(repr=False)
    #: Of the source: pixels, and bits of all its samples.
    pixels: int
    source_bits: int
    #: Remarks for the user.
    remarks: tuple[str, ...] = ()

    @property
    def size(self) -> int:
        """Bytes of the whole stream, header and checksums included."""
        return sum(run.length for run in self.runs)

    @property
    def parts(self) -> dict[str, int]:
        """Bytes by part; they add up to `size`."""
        parts: dict[str, int] = {}
        for name, length in self.runs:
            parts[name] = parts.get(name, 0) + length
        return parts

    @property
    def bpp(self) -> float:
        """Rate in bits per pixel, header and checksum included."""
        return 8 * self.size / self.pixels

    @property
    def ratio(self) -> float:
        """Bits of the source's samples for each bit of the stream."""
        return self.source_bits / (8 * self.size)

    def rows(self) -> list[Row]:
        """Rate and size, and the bytes of every part."""
        parts = [Row(f"bytes of {name}", size, "bytes") for name, size in self.parts.items()]
        return [
            Row("rate", self.bpp, "bpp"),
            Row("ratio", self.ratio),
            Row("bytes", self.size, "bytes"),
            *parts,
        ]


@dataclass(frozen=True, repr=False)
class Compressed(Account):
    """A compressed picture: its bytes, and where they go."""

    #: The whole `.mgt` stream; it decodes without anything else.
    data: bytes = field(default=b"", repr=False)
    #: Whether it may be cut anywhere and still decodes.
    embedded: bool = False
    #: Result of an aim.
    aim: Aim | None = None

    @cached_property
    def picture(self) -> Picture:
        """The picture as a decoder gets it, decoded from `data` alone."""
        return expand(self.data)


class CodedRows:
    """A picture that is coded slab by slab: iterate for the sections, then ask for the account.

    A picture that its codec codes as a whole is one slab.

    Parameters
    ----------
    source : Rows
    step : Step
        A codec with its settings.
    allowance : Allowance
    memory : Memory, optional
        Of codings of the same pixels before: layers that have not changed are not run again.
    pixels : array, optional
        Those of the source, if available.

    Raises
    ------
    ChainError
        If the step cannot be used on this picture.
    InputError
        If the codec needs the whole picture, which has more samples than are allowed.
    LimitError
        If the memory does not suffice for a slab.
    PictureError
        If the picture has more planes than a stream holds.
    """

    def __init__(
        self,
        source: Rows,
        step: Step,
        allowance: Allowance = UNBOUNDED,
        *,
        memory: Memory | None = None,
        pixels: Pixels | None = None,
    ) -> None:
        check_planes(source)
        frame, allowance = source.frame, allowance.of(source)
        self._source, self.step, self._memory, self._pixels = source, str(step), memory, pixels
        self._codec = bind_step(step, frame)
        self._coder = pipeline_of(self._codec)
        self.note = ""
        if isinstance(self._coder, Slabs):
            self._height = self._coder.height
            if not allowance.fits(frame):
                row = frame.width * frame.channels * self._codec.memory
                check_memory(self._height * row, allowance.memory)
        else:
            obstacle = InputError(f"{step}: codes the whole picture at once; {REMEDY}")
            self._height = allowance.height(frame, self._codec.memory, 0, obstacle)
            self.note = whole_note(obstacle, self._height, frame, allowance)
        self._runs: list[ByteCount] = []
        self._remarks: list[str] = []
        self._bits = 0

    @property
    def frame(self) -> Frame:
        """Of the picture."""
        return self._source.frame

    @property
    def embedded(self) -> bool:
        """Whether the stream may be cut anywhere and still decodes."""
        return self._coder.embedded

    def __iter__(self) -> Iterator[Section]:
        """Sections of the stream, in their order."""
        self._runs, self._remarks = [], []
        remark = self._codec.step.declared(Codec).remark
        for band in in_bands(self._height, self._source):
            (picture,) = band.pictures
            sections = self._sections(band.rows, picture)
            if remark:
                self._remarks += remark(picture.frame, sections, self._codec.settings)
            self._runs += [run for section in sections for run in _runs_of(section)]
            self._bits = picture.sample_bits
            yield from sections

    def _sections(self, rows: slice, picture: Picture) -> list[Section]:
        if isinstance(self._coder, Slabs):
            return self._coder.pipeline(rows).forward(picture.pixels())
        pixels = picture.pixels() if self._pixels is None else self._pixels
        return self._coder.forward(pixels, self._memory)

    def account(self, header: int) -> Account:
        """Where the bytes go, once all sections were taken; `header` is the header's length."""
        runs, frame = (ByteCount("header", header), *self._runs), self.frame
        samples = frame.height * frame.width * frame.channels
        remarks = tuple(dict.fromkeys(self._remarks))
        return Account(self.step, runs, frame.height * frame.width, samples * self._bits, remarks)

    def compressed(self) -> Compressed:
        """The whole stream, and where its bytes go."""
        sections = [section.data for section in self]
        data = Stream(self.frame, self.step, sections).pack()
        account = self.account(len(data) - sum(map(len, sections)))
        return Compressed(**vars(account), data=data, embedded=self.embedded)


class Coder:
    """Codes one picture with codecs of any settings; results that do not depend on them are kept.

    Parameters
    ----------
    picture : Picture

    Raises
    ------
    PictureError
        If the picture has more planes than a stream holds.
    """

    def __init__(self, picture: Picture) -> None:
        check_planes(picture)
        self.picture = picture
        self._pixels, self._memory = picture.pixels(), Memory()

    @property
    def saved(self) -> float:
        """Seconds that the results kept for the last codec took to compute."""
        return self._memory.saved

    def code(self, step: Step) -> Compressed:
        """The picture coded by one codec; raises `ChainError` where it cannot be used."""
        rows = CodedRows(self.picture, step, memory=self._memory, pixels=self._pixels)
        return rows.compressed()


def check_planes(picture: Framed) -> None:
    """Raise `PictureError` for more planes than a stream holds."""
    planes = picture.frame.channels
    if planes > MAX_PLANES:
        raise PictureError(
            f"{picture.origin} has {planes} planes; codecs take at most {MAX_PLANES}"
        )


def _runs_of(section: Section) -> Sequence[ByteCount]:
    """Labels of the bytes of a section."""
    return section.runs or [ByteCount(section.name, len(section.data))]


def through(codec: Bound, pixels: Pixels) -> tuple[Pixels, int]:
    """Samples after coding and decoding, not yet rounded, and the size of the stream in bytes.

    The pixels may have another size and colour than the frame that the codec is bound to: a step
    before may have changed them.
    """
    height, width = pixels.shape[:2]
    frame = replace(codec.frame, height=height, width=width)
    if pixels.ndim != len(frame.shape):
        gray = pixels.ndim == 2
        frame = replace(frame, colour="gray" if gray else "rgb", channels=1 if gray else 3)
    pipeline = pipeline_of(replace(codec, frame=frame))
    sections = pipeline.forward(pixels)
    size = len(Stream(frame, str(codec.step), [s.data for s in sections]).pack())
    decoded = pipeline.backward([section.data for section in sections])
    return decoded.astype(pixels.dtype), size
