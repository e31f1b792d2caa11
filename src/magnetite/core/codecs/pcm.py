"""Codecs of the samples themselves: fewer bits, or the top bit planes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np

from magnetite.core.arrays import Int32, Pixels
from magnetite.core.codecs.layers.colour import DigitalPlanes
from magnetite.core.codecs.layers.pipeline import EachPlane, Named, Pipeline, Section
from magnetite.core.codecs.predictive import Predicted
from magnetite.core.errors import StreamError
from magnetite.core.methods.catalogue import ColourPolicy, codec
from magnetite.core.methods.parameters import Count
from magnetite.core.picture.frame import Frame


@codec(
    "pcm",
    summary="Samples in fewer bits, each the middle of its interval, coded without further loss.",
    colour=ColourPolicy.JOINT,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 2.4",
    quality="bits",
    finer="higher",
    points="1,2,3,4,5,6,7,8",
    slabbed=True,
)
def pcm(
    frame: Frame,
    *,
    bits: Annotated[int, Count(1, 16), "bits of a sample, at most the picture's own"],
) -> Pipeline:
    """Pulse code modulation: `2^bits` even intervals from black to full scale.

    A sample x becomes `min(⌊x 2^bits⌋, 2^bits - 1)` and, decoded, the middle of that interval;
    with as many bits as the picture has, or more, it becomes itself.
    """
    bits = min(bits, frame.bits or bits)
    names = DigitalPlanes(frame, "none").names
    stage = Predicted((frame.height, frame.width), 0, 2**bits - 1, 0)
    return Pipeline([Intervals(frame, bits), EachPlane([[stage]] * frame.channels), Named(names)])


@dataclass(frozen=True)
class Intervals:
    """Samples to the number of their interval, channel by channel."""

    frame: Frame
    bits: int

    def forward(self, pixels: Pixels) -> list[Int32]:
        top = 2**self.bits - 1
        if self.bits == self.frame.bits:
            numbers = np.rint(pixels * pixels.dtype.type(top))
        else:
            numbers = np.floor(pixels * pixels.dtype.type(top + 1))
        whole = numbers.clip(0, top).astype(np.int32)
        return [whole] if whole.ndim == 2 else [
            np.ascontiguousarray(whole[..., c]) for c in range(whole.shape[2])
        ]  # fmt: skip

    def backward(self, planes: list[Int32]) -> Pixels:
        whole = planes[0] if self.frame.colour == "gray" else np.stack(planes, axis=-1)
        if self.bits == self.frame.bits:
            return np.asarray(whole / np.float32(2**self.bits - 1), np.float32)
        return np.asarray((whole + np.float32(0.5)) / np.float32(2**self.bits), np.float32)


@codec(
    "bit-planes",
    summary="The top bit planes, each coded by the bits around and those of the plane above.",
    colour=ColourPolicy.JOINT,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 8.8; ITU-T T.82",
    quality="keep",
    finer="higher",
    points="1,2,3,4,5,6,7,8",
    slabbed=True,
)
def bit_planes(
    frame: Frame,
    *,
    keep: Annotated[
        int, Count(1, 16), "planes from the top; without loss where the picture has no more"
    ],
    code: Annotated[
        Literal["gray", "binary"],
        "Gray code, of which one bit changes from a number to the next, or plain binary",
    ] = "gray",
) -> Pipeline:
    """Code the `keep` most significant bit planes; those left out count as half of their span.

    Raises `PictureError` for float pictures, which have no bit planes.
    """
    planes = DigitalPlanes(frame, "none")
    keep = min(keep, planes.bits)
    stack = BitStack((frame.height, frame.width), planes, keep, code == "gray")
    return Pipeline([planes, stack])


@dataclass(frozen=True)
class BitStack:
    """Planes of numbers to one section for each of their bit planes, and back."""

    shape: tuple[int, int]
    planes: DigitalPlanes
    keep: int
    gray: bool

    def forward(self, planes: list[Int32]) -> list[Section]:
        from magnetite.core.codecs.entropy import bits_model, stripes

        sections = []
        for name, plane in zip(self.planes.names, planes, strict=True):
            numbers = plane + (1 << (self.planes.bits - 1))
            above = np.zeros(self.shape, np.int32)
            for bit in self._bits:
                here = self._plane(numbers, bit)
                data = stripes.encode(bits_model.run, here.copy(), above)
                sections.append(Section(f"{name} {bit}", data))
                above = here
        return sections

    def backward(self, sections: Sequence[bytes]) -> list[Int32]:
        from magnetite.core.codecs.entropy import bits_model, stripes

        if len(sections) != len(self.planes.names) * self.keep:
            raise StreamError(f"{len(sections)} bit planes are there, not as many as declared")
        for section in sections:
            stripes.check_length(section, self.shape)
        planes, following = [], iter(sections)
        for _ in self.planes.names:
            numbers, above = np.zeros(self.shape, np.int32), np.zeros(self.shape, np.int32)
            binary = np.zeros(self.shape, np.int32)
            for bit in self._bits:
                above = stripes.decode(bits_model.run, next(following), self.shape, above)
                binary = binary ^ above if self.gray else above
                numbers += binary << bit
            left = self.planes.bits - self.keep
            numbers += (1 << left) >> 1
            planes.append(numbers - (1 << (self.planes.bits - 1)))
        return planes

    @property
    def _bits(self) -> range:
        """Bits that are coded, the most significant first."""
        return range(self.planes.bits - 1, self.planes.bits - 1 - self.keep, -1)

    def _plane(self, numbers: Int32, bit: int) -> Int32:
        code = numbers ^ (numbers >> 1) if self.gray else numbers
        return np.asarray((code >> bit) & 1, np.int32)
