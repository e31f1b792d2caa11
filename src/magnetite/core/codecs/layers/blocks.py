"""Block layer: a plane to blocks, padded where the block does not divide it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float32


@dataclass(frozen=True)
class Blocks:
    """Cuts a plane into blocks in raster order; pads below and to the right, crops it off again.

    The padding repeats the last row and column. A block larger than the plane is cut down to
    the plane's own size.
    """

    height: int
    width: int
    block: tuple[int, ...]

    @property
    def size(self) -> tuple[int, int]:
        """Height and width of a block as used."""
        return min(self.block[0], self.height), min(self.block[1], self.width)

    @property
    def grid(self) -> tuple[int, int]:
        """Rows and columns of blocks."""
        rows, columns = self.size
        return -(-self.height // rows), -(-self.width // columns)

    def forward(self, plane: Float32) -> Float32:
        """Blocks, shape (rows, columns, height, width)."""
        (rows, columns), (down, across) = self.size, self.grid
        pad = ((0, down * rows - self.height), (0, across * columns - self.width))
        padded = np.pad(plane, pad, mode="edge") if any(p[1] for p in pad) else plane
        grid = padded.reshape(down, rows, across, columns).swapaxes(1, 2)
        return np.array(grid, order="C")

    def backward(self, blocks: Float32) -> Float32:
        padded = blocks.swapaxes(1, 2).reshape(self.grid[0] * self.size[0], -1)
        return padded[: self.height, : self.width]
