"""Block layer: planes to stacks of blocks, padded where the block does not divide the plane."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]


@dataclass(frozen=True)
class Blocks:
    """Cuts planes into blocks in raster order; pads below and to the right, crops it off again.

    The padding repeats the last row and column. A block larger than the plane is cut down to
    the plane's own size.
    """

    height: int
    width: int
    block: tuple[int, int]

    @property
    def size(self) -> tuple[int, int]:
        """Height and width of a block as used."""
        return min(self.block[0], self.height), min(self.block[1], self.width)

    @property
    def grid(self) -> tuple[int, int]:
        """Rows and columns of blocks."""
        rows, columns = self.size
        return -(-self.height // rows), -(-self.width // columns)

    def forward(self, planes: list[Array]) -> list[Array]:
        (rows, columns), (down, across) = self.size, self.grid
        pad = ((0, down * rows - self.height), (0, across * columns - self.width))
        stacks = []
        for plane in planes:
            padded = np.pad(plane, pad, mode="edge")
            grid = padded.reshape(down, rows, across, columns).swapaxes(1, 2)
            stacks.append(grid.reshape(-1, rows, columns))
        return stacks

    def backward(self, stacks: list[Array]) -> list[Array]:
        (rows, columns), (down, across) = self.size, self.grid
        planes = []
        for stack in stacks:
            grid = stack.reshape(down, across, rows, columns).swapaxes(1, 2)
            padded = grid.reshape(down * rows, across * columns)
            planes.append(padded[: self.height, : self.width])
        return planes
