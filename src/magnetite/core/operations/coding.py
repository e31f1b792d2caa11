"""Pictures to `.mgt` bytes and back, by a codec whose settings are known."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.chain.bind import Bound, bind_step
from magnetite.core.chain.notation import parse_step
from magnetite.core.chain.step import Step
from magnetite.core.codecs.layers.container import MAX_PLANES, Stream, unpack
from magnetite.core.codecs.layers.pipeline import Memory, Pipeline, Run, Section
from magnetite.core.codecs.layers.slabs import Slabs, slab_height
from magnetite.core.errors import CommandError, MagnetiteError, PictureError, StreamError
from magnetite.core.limits import MAX_SAMPLES
from magnetite.core.methods.declarations import Codec
from magnetite.core.operations.aim import Aim
from magnetite.core.picture import Frame, Picture
from magnetite.core.picture.matching import Framed
from magnetite.core.rows import Row, data_frame


@dataclass(frozen=True)
class Account:
    """Where the bytes of a compressed picture go."""

    #: Canonical text of the codec with its settings.
    step: str
    #: Labelled byte counts in order of the file; they add up to `size`.
    runs: tuple[Run, ...] = field(repr=False)
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

    def frame(self) -> Any:
        """The rows as a pandas data frame."""
        return data_frame(self.rows())


@dataclass(frozen=True)
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
        self._pixels = picture.pixels()
        self._memory = Memory()

    def code(self, step: Step) -> Compressed:
        """The picture coded by one codec; raises `ChainError` where it cannot be used."""
        picture = self.picture
        codec = bind_step(step, picture.frame)
        pipeline = pipeline_of(codec)
        sections = pipeline.forward(self._pixels, self._memory)
        label = str(step)
        data = Stream(picture.frame, label, [s.data for s in sections]).pack()
        remark = step.declared(Codec).remark
        runs = [Run("header", len(data) - sum(len(s.data) for s in sections))]
        for section in sections:
            runs += runs_of(section)
        return Compressed(
            label,
            tuple(runs),
            picture.height * picture.width,
            picture.samples.size * picture.sample_bits,
            tuple(remark(picture.frame, sections, codec.settings)) if remark else (),
            data,
            pipeline.embedded,
        )


def check_planes(picture: Framed) -> None:
    """Raise `PictureError` for more planes than a stream holds."""
    planes = picture.frame.channels
    if planes > MAX_PLANES:
        raise PictureError(
            f"{picture.origin} has {planes} planes; codecs take at most {MAX_PLANES}"
        )


def runs_of(section: Section) -> Sequence[Run]:
    """Labels of the bytes of a section."""
    return section.runs or [Run(section.name, len(section.data))]


def expand(data: bytes, *, max_samples: int = MAX_SAMPLES) -> Picture:
    """Decode a `.mgt` stream from its bytes alone.

    Float pictures come back as float32.

    Raises
    ------
    StreamError
        If the bytes are not a `.mgt` stream, are damaged, or declare more than `max_samples`.
    """
    stream = unpack(data, max_samples)
    pipeline = decoding(stream.step, stream.frame)
    if stream.missing and not pipeline.embedded:
        raise StreamError(f"the stream is truncated: {stream.missing} bytes are missing at its end")
    with _stream_errors(stream.step):
        pixels = pipeline.backward(stream.sections)
        if pixels.shape != stream.frame.shape:
            raise StreamError("the sections do not fit the frame of the stream")
    decoded = decoded_picture(stream.frame, pixels)
    if not stream.missing:
        return decoded
    words = f"the stream was cut: {stream.missing} bytes are missing, the rest is unchecked"
    return replace(decoded, notes=(words,))


def decoding(step: str, frame: Frame) -> Pipeline | Slabs:
    """The decoder of a step's stream; `StreamError` where that cannot be used."""
    with _stream_errors(step):
        return pipeline_of(bind_step(parse_step(step, "codec"), frame))


@contextmanager
def _stream_errors(step: str) -> Iterator[None]:
    try:
        yield
    except (StreamError, CommandError):
        raise
    except MagnetiteError as error:
        raise StreamError(f"the stream's step {step!r} cannot be used: {error}") from None


def decoded_picture(frame: Frame, pixels: Pixels) -> Picture:
    """Decoded samples as a picture of a depth and colour."""
    dtype = np.float32 if frame.bits is None else np.uint8 if frame.bits <= 8 else np.uint16
    one_pixel = np.zeros((1, 1, *frame.shape[2:]), dtype)
    blank = Picture(one_pixel, frame.bits, frame.colour, "expanded stream")
    return blank.with_pixels(pixels)[0]


def through(codec: Bound, pixels: Pixels) -> tuple[Pixels, int]:
    """Samples after coding and decoding, not yet rounded, and the size of the stream in bytes.

    The pixels may have another size than the frame that the codec is bound to: a step before may
    have changed it.
    """
    height, width = pixels.shape[:2]
    frame = replace(codec.frame, height=height, width=width)
    pipeline = pipeline_of(replace(codec, frame=frame))
    sections = pipeline.forward(pixels)
    size = len(Stream(frame, str(codec.step), [s.data for s in sections]).pack())
    decoded = pipeline.backward([section.data for section in sections])
    return decoded.astype(pixels.dtype), size


def pipeline_of(codec: Bound) -> Pipeline | Slabs:
    """The pipeline of a codec, by the frame that it is bound to."""

    def make(frame: Frame) -> Pipeline:
        pipeline: Pipeline = codec.call(frame)
        return pipeline

    slabbed = codec.step.declared(Codec).is_slabbed(codec.settings)
    if slabbed and slab_height(codec.frame) < codec.frame.height:
        return Slabs(codec.frame, make)
    return make(codec.frame)
