"""Large pictures in slabs of rows: each is coded as a picture of these rows alone."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.codecs.layers.pipeline import Memory, Pipeline, Section
from magnetite.core.errors import StreamError
from magnetite.core.picture.frame import Frame

#: Pictures of more px than this are cut; a slab's samples at most, and the divisor of its rows
#: of.
LARGE, SLAB, ROWS = 2**25, 2**23, 64


def slab_height(frame: Frame) -> int:
    """Rows of each slab of a picture but the last; all rows of a small picture."""
    if frame.height * frame.width <= LARGE:
        return frame.height
    multiple = SLAB // (ROWS * frame.width * frame.channels)
    return min(frame.height, ROWS * max(1, multiple))


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
    def height(self) -> int:
        """Rows of each slab but the last."""
        return slab_height(self.frame)

    @property
    def count(self) -> int:
        """Number of slabs."""
        return -(-self.frame.height // self.height)

    def part(self, index: int) -> slice:
        """Rows of a slab."""
        start = index * self.height
        return slice(start, min(start + self.height, self.frame.height))

    def pipeline(self, part: slice) -> Pipeline:
        """The pipeline of the slab of these rows."""
        return self.make(replace(self.frame, height=part.stop - part.start))

    def forward(self, pixels: Pixels, memory: Memory | None = None) -> list[Section]:
        """As `Pipeline.forward`, without a memory."""
        return [
            section
            for part in map(self.part, range(self.count))
            for section in self.pipeline(part).forward(pixels[part])
        ]

    def backward(self, sections: Sequence[bytes]) -> Pixels:
        """As `Pipeline.backward`."""
        each = self.sections_of_slab(len(sections))
        return np.concatenate(
            [
                self.pipeline(self.part(i)).backward(sections[i * each : (i + 1) * each])
                for i in range(self.count)
            ]
        )

    def sections_of_slab(self, sections: int) -> int:
        """Sections of each slab, of their number in the stream.

        Raises
        ------
        StreamError
            If slabs cannot have one number of sections.
        """
        if sections == 0 or sections % self.count:
            raise StreamError(f"{sections} sections are there for {self.count} slabs")
        return sections // self.count
