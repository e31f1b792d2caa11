"""The declaration of a file format of pictures."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from magnetite.core.arrays import Samples
from magnetite.core.picture import Frame, Picture
from magnetite.core.picture.frame import Light

#: Depths of formats that hold any, and of those that hold bytes alone.
ANY, BYTE = range(1, 17), range(8, 9)


@dataclass(frozen=True)
class Decoded:
    """Samples as a file holds them; `bits` is None where the sample type says it all."""

    samples: Samples
    bits: int | None = None
    notes: tuple[str, ...] = ()
    alpha: Samples | None = None
    orientation: int = 1
    #: Whether the last axis counts pages, not colours.
    stack: bool = False
    #: Relation of the samples to light, where the file states it.
    light: Light = "unknown"


@dataclass(frozen=True)
class Format:
    """How files are recognised, decoded and written; depths and colours that they hold."""

    name: str
    #: File name extensions; the first one is suggested.
    endings: tuple[str, ...]
    #: First bytes of its files.
    marks: tuple[bytes, ...]
    #: Samples that the header declares.
    declared: Callable[[bytes], int]
    decode: Callable[[bytes], Decoded]
    encode: Callable[[Picture], bytes]
    depths: range
    floats: bool = False
    planes: bool = False
    gray: bool = True
    rgb: bool = True
    #: One bit in each of several channels is beyond some encoders.
    bilevel_colour: bool = True
    #: Whether decoding gives back the samples, and the depth.
    lossless: bool = True
    keeps_depth: bool = True
    #: Writes bands of rows, as they come; None if all of them are needed at once.
    stream: Callable[[Path, Frame, Iterator[Picture]], None] | None = None
    #: Position among the formats that are suggested.
    rank: int = 9

    def holds(self, frame: Frame) -> bool:
        """Whether a picture's depth and colour fit."""
        depth = self.floats if frame.bits is None else frame.bits in self.depths
        if frame.bits == 1 and frame.colour != "gray" and not self.bilevel_colour:
            return False
        return depth and {"gray": self.gray, "rgb": self.rgb, "planes": self.planes}[frame.colour]


def separated(samples: Samples, bits: int | None, notes: tuple[str, ...], turn: int) -> Decoded:
    """Samples whose last channel is alpha."""
    colour, alpha = samples[..., :-1], samples[..., -1]
    colour = colour[..., 0] if colour.shape[-1] == 1 else colour
    note = "alpha channel set aside: it is neither processed nor scored"
    return Decoded(colour, bits, (*notes, note), alpha, turn)
