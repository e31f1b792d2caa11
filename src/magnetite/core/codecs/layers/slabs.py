"""Large pictures in slabs of rows: each is coded as a picture of these rows alone."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.codecs.layers.pipeline import Memory, Pipeline, Section
from magnetite.core.compute.bands import bands
from magnetite.core.errors import StreamError
from magnetite.core.picture.frame import Frame

#: Pictures of more px than this are cut, into slabs of so many samples, a multiple of so many rows.
LARGE, SLAB, ROWS = 2**25, 2**23, 64


def slabs_of(frame: Frame) -> list[slice]:
    """Rows of each slab of a picture; small pictures are one."""
    if frame.height * frame.width <= LARGE:
        return [slice(0, frame.height)]
    multiple = SLAB // (ROWS * frame.width * frame.channels)
    return bands(frame.height, ROWS * max(1, multiple))


@dataclass(frozen=True)
class Slabs:
    """Codes slabs by pipelines of their own; their sections follow one another.

    Parameters
    ----------
    frame : Frame
        Of the whole picture.
    make : function
        The pipeline of a frame.
    """

    frame: Frame
    make: Callable[[Frame], Pipeline]
    embedded: bool = False

    @property
    def parts(self) -> list[slice]:
        """Rows of each slab."""
        return slabs_of(self.frame)

    def pipeline(self, part: slice) -> Pipeline:
        """What codes a slab."""
        return self.make(replace(self.frame, height=part.stop - part.start))

    def forward(self, pixels: Pixels, memory: Memory | None = None) -> list[Section]:
        """As `Pipeline.forward`, without a memory."""
        return [
            section for part in self.parts for section in self.pipeline(part).forward(pixels[part])
        ]

    def backward(self, sections: Sequence[bytes]) -> Pixels:
        """As `Pipeline.backward`."""
        each = self.sections_of_slab(len(sections))
        pairs = enumerate(self.parts)
        return np.concatenate(
            [self.pipeline(p).backward(sections[i * each : (i + 1) * each]) for i, p in pairs]
        )

    def sections_of_slab(self, count: int) -> int:
        """Sections of each slab, of their number in the stream.

        Raises
        ------
        StreamError
            If slabs cannot have one number of sections.
        """
        slabs = len(self.parts)
        if count == 0 or count % slabs:
            raise StreamError(f"{count} sections are there for {slabs} slabs")
        return count // slabs
