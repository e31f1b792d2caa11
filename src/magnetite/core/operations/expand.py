"""`.mgt` streams to pictures: from their bytes alone, whole or slab by slab."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.chain.bind import Bound, bind_step
from magnetite.core.chain.notation import parse_step
from magnetite.core.codecs.layers.container import Header, unpack
from magnetite.core.codecs.layers.pipeline import Pipeline
from magnetite.core.codecs.layers.slabs import Slabs, slab_height
from magnetite.core.errors import CommandError, MagnetiteError, StreamError
from magnetite.core.limits import MAX_SAMPLES
from magnetite.core.methods.declarations import Codec
from magnetite.core.picture import Picture
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.rows import joined

#: Decoded slabs that are kept: a band may begin in one and end in the next.
_KEPT = 2


def expand(data: bytes, *, max_samples: int = MAX_SAMPLES) -> Picture:
    """Decode a `.mgt` stream from its bytes alone.

    Float pictures come back as float32.

    Raises
    ------
    StreamError
        If the bytes are not a `.mgt` stream, are damaged, or declare more than `max_samples`.

    Examples
    --------
    >>> import numpy as np
    >>> import magnetite
    >>> ramp = np.tile(np.arange(200, dtype=np.uint8), (64, 1))
    >>> coded = magnetite.compress(ramp, "pcm bits=4")
    >>> magnetite.expand(coded.data).same_samples(coded.picture)
    True
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


def pipeline_of(codec: Bound) -> Pipeline | Slabs:
    """The pipeline of a codec, by the frame that it is bound to."""

    def make(frame: Frame) -> Pipeline:
        pipeline: Pipeline = codec.call(frame)
        return pipeline

    slabbed = codec.step.declared(Codec).is_slabbed(codec.settings)
    if slabbed and slab_height(codec.frame) < codec.frame.height:
        return Slabs(codec.frame, make)
    return make(codec.frame)


def slabs_of_stream(header: Header) -> Slabs | None:
    """The decoder of a stream slab by slab; None for one that is decoded as a whole.

    Raises
    ------
    StreamError
        If its step cannot be used.
    """
    if slab_height(header.frame) >= header.frame.height:
        return None
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
