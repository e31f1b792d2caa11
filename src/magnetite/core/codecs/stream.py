"""Compress pictures to `.mgt` bytes and expand them again."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from magnetite.core.chain import Step, parse_step
from magnetite.core.codecs.container import MAX_PLANES, Stream, unpack
from magnetite.core.codecs.layers import Frame, Memory, Pipeline, Run
from magnetite.core.declarations import Codec
from magnetite.core.errors import CommandError, MagnetiteError, PictureError, StreamError
from magnetite.core.limits import MAX_SAMPLES
from magnetite.core.picture import Picture, Pixels, Samples, as_picture


@dataclass(frozen=True)
class Compressed:
    """A compressed picture: its bytes, and where they go."""

    #: The whole `.mgt` stream; it decodes without anything else.
    data: bytes = field(repr=False)
    #: Canonical text of the codec with its settings.
    step: str
    #: What the bytes tell, one after the other; their lengths add up to `len(data)`.
    runs: tuple[Run, ...] = field(repr=False)
    #: Of the source: pixels, and bits of all its samples.
    pixels: int
    source_bits: int
    #: Remarks for the user.
    remarks: tuple[str, ...] = ()
    #: Whether it may be cut anywhere and still decodes.
    embedded: bool = False

    @property
    def parts(self) -> dict[str, int]:
        """Bytes by part; they add up to `len(data)`."""
        parts: dict[str, int] = {}
        for name, length in self.runs:
            parts[name] = parts.get(name, 0) + length
        return parts

    @property
    def bpp(self) -> float:
        """Rate in bits per pixel, header and checksum included."""
        return 8 * len(self.data) / self.pixels

    @property
    def ratio(self) -> float:
        """Bits of the source's samples for each bit of the stream."""
        return self.source_bits / (8 * len(self.data))

    @cached_property
    def picture(self) -> Picture:
        """The picture as a decoder gets it, decoded from `data` alone."""
        return expand(self.data)


class Coder:
    """Codes one picture with codecs of any settings; what does not depend on them is kept.

    Parameters
    ----------
    picture : Picture
    """

    def __init__(self, picture: Picture) -> None:
        self.picture = picture
        self._pixels = picture.pixels()
        self._memory = Memory()

    def code(self, parsed: Step) -> Compressed:
        """The picture coded by one codec; raises as `compress` does."""
        picture, pixels = self.picture, self._pixels
        frame = _frame(picture, pixels)
        pipeline = _pipeline(parsed, picture, frame)
        sections = pipeline.forward(pixels, self._memory)
        data = Stream(frame, str(parsed), [s.data for s in sections]).pack()
        remark = parsed.declared(Codec).remark
        runs = [Run("header", len(data) - sum(len(s.data) for s in sections))]
        for section in sections:
            runs += section.runs or [Run(section.name, len(section.data))]
        sample_bits = picture.bits or 8 * picture.samples.dtype.itemsize
        return Compressed(
            data,
            str(parsed),
            tuple(runs),
            picture.height * picture.width,
            picture.samples.size * sample_bits,
            tuple(remark(frame, sections, _settings(parsed, picture))) if remark else (),
            pipeline.embedded,
        )


def compress(source: Picture | Samples, step: str) -> Compressed:
    """Compress a picture with one codec, such as `dct step=8dn block=16`.

    Raises
    ------
    ChainError
        If the step cannot be read or used on this picture.
    """
    picture = as_picture(source)
    if picture.channels > MAX_PLANES:
        raise PictureError(
            f"{picture.origin} has {picture.channels} planes; codecs take at most {MAX_PLANES}"
        )
    return Coder(picture).code(parse_step(step, "codec"))


def expand(data: bytes, *, max_samples: int = MAX_SAMPLES) -> Picture:
    """Decode a `.mgt` stream from its bytes alone.

    Float pictures come back as float32.

    Raises
    ------
    StreamError
        If the bytes are not a `.mgt` stream, are damaged, or declare more than `max_samples`.
    """
    stream = unpack(data, max_samples)
    frame = stream.frame
    dtype = np.float32 if frame.bits is None else np.uint8 if frame.bits <= 8 else np.uint16
    one_pixel = np.zeros((1, 1, *frame.shape[2:]), dtype)
    blank = Picture(one_pixel, frame.bits, frame.colour, "expanded stream")
    try:
        pipeline = _pipeline(parse_step(stream.step, "codec"), blank, frame)
        if stream.missing and not pipeline.embedded:
            raise StreamError(
                f"the stream is truncated: {stream.missing} bytes are missing at its end"
            )
        pixels = pipeline.backward(stream.sections)
    except (StreamError, CommandError):
        raise
    except MagnetiteError as error:
        raise StreamError(f"the stream's step {stream.step!r} cannot be used: {error}") from None
    decoded = blank.with_pixels(pixels)[0]
    if not stream.missing:
        return decoded
    words = f"the stream was cut: {stream.missing} bytes are missing, what is left is unchecked"
    return replace(decoded, notes=(words,))


def through(step: Step, picture: Picture, pixels: Pixels) -> tuple[Pixels, int]:
    """Samples after coding and decoding, not yet rounded, and the size of the stream in bytes.

    `picture` gives depth and colour; `pixels` are the samples that go through.
    """
    frame = _frame(picture, pixels)
    pipeline = _pipeline(step, picture, frame)
    sections = pipeline.forward(pixels)
    size = len(Stream(frame, str(step), [s.data for s in sections]).pack())
    decoded = pipeline.backward([section.data for section in sections])
    return decoded.astype(pixels.dtype), size


def _pipeline(step: Step, picture: Picture, frame: Frame) -> Pipeline:
    pipeline: Pipeline = step.method.function(frame, **step.arguments(picture))
    return pipeline


def _settings(step: Step, picture: Picture) -> dict[str, Any]:
    """All settings of a step, those left out at their defaults."""
    defaults = {p.name: p.default for p in step.method.parameters.values()}
    return defaults | step.arguments(picture)


def _frame(picture: Picture, pixels: Pixels) -> Frame:
    """The pixels' own size (a step before may have changed it), the picture's colour."""
    height, width = pixels.shape[:2]
    return Frame(height, width, picture.channels, picture.colour, picture.bits)
