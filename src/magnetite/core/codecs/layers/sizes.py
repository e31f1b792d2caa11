"""Block sizes by content: 8x8 blocks are joined to 16x16 and 32x32 where that takes fewer bits.

The coefficients of a larger block are dealt out to the 8x8 blocks that it covers, so that the
layers that follow see 8x8 blocks alone.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.arrays import Float32, Int32
from magnetite.core.codecs.layers.backend import BACK_ENDS, BackEndName, Lossless
from magnetite.core.codecs.layers.blocks import Blocks
from magnetite.core.codecs.layers.pipeline import Layer
from magnetite.core.codecs.layers.quantizer import Quantizer
from magnetite.core.codecs.layers.transform import CosineTransform
from magnetite.core.compute.bands import bands_of
from magnetite.core.compute.basis import cosines
from magnetite.core.compute.threads import spread
from magnetite.core.errors import StreamError

#: Side of the smallest blocks, and how many of them lie along a side of the others.
SIDE, JOINED = 8, (2, 4)
#: A coefficient is coded from this square in steps on; costs, in squared steps: of a coded one, for
#: each doubling of its square, and for each bit of the positions of a block's coded ones.
_LEAST, _CODED, _DOUBLING, _POSITIONS = 0.45, 0.18, 0.055, 0.05
#: Joining must save this share of the cost.
_BIAS = 1.02
#: Samples on which it is tried whether joining pays at all.
_TRIED = 2**19


class Sized(NamedTuple):
    """A plane's blocks and their sizes."""

    #: For 2 and 4 blocks a side: 1 where they are joined, shape (rows, columns) // 2 or 4.
    joined: tuple[Int32, Int32]
    #: Coefficients or numbers, shape (rows, columns, 8, 8).
    blocks: Any


@dataclass(frozen=True)
class SizedTransform:
    """The cosine transforms of a plane in blocks of all sizes; back, of the sizes chosen."""

    blocks: Blocks

    def forward(self, plane: Float32) -> list[Float32]:
        stack = self.blocks.forward(plane)
        whole = stack.swapaxes(1, 2).reshape(stack.shape[0] * SIDE, -1)
        larger = [_blocks_of(whole, SIDE * n) for n in JOINED]
        return [CosineTransform().forward(x) if x.size else x for x in (stack, *larger)]

    def backward(self, sized: Sized) -> Float32:
        stack = np.array(sized.blocks, np.float32)
        small = CosineTransform().backward(stack.copy())
        for n, joined in zip(JOINED, _apart(sized.joined), strict=True):
            where = joined.astype(bool)
            if where.any():
                cells, shape = _cells(small, n), (-1, n, SIDE, n, SIDE)
                blocks = CosineTransform().backward(_gathered(_cells(stack, n)[where]))
                cells[where] = blocks.reshape(shape).swapaxes(2, 3)
        return self.blocks.backward(small)


def _blocks_of(whole: Float32, side: int) -> Float32:
    """The blocks of a side that lie wholly in a plane, shape (rows, columns, side, side)."""
    rows, columns = (length // side for length in whole.shape)
    cut = whole[: rows * side, : columns * side].reshape(rows, side, columns, side)
    return np.array(cut.swapaxes(1, 2), np.float32, order="C")


def _cells(stack: Float32, n: int) -> Float32:
    """A view of n x n blocks each, shape (rows, columns, n, n, 8, 8)."""
    rows, columns = (count // n for count in stack.shape[:2])
    cut = stack[: rows * n, : columns * n].reshape(rows, n, columns, n, SIDE, SIDE)
    return cut.swapaxes(1, 2)


def _dealt(blocks: Float32, n: int) -> Float32:
    """Coefficients of blocks, shape (…, 8 n, 8 n), as those of n x n blocks.

    Each gets every nth coefficient of a row and column; of the lowest n x n of them, the inverse
    cosine transform: close to the lowest frequency of each small block.
    """
    lead = blocks.shape[:-2]
    parts = np.moveaxis(blocks.reshape(*lead, SIDE, n, SIDE, n), (-3, -1), (-4, -3)).copy()
    basis = cosines(n).astype(np.float32)
    parts[..., 0, 0] = basis.T @ blocks[..., :n, :n] @ basis
    return parts


def _gathered(parts: Float32) -> Float32:
    """Inverse of `_dealt`."""
    n = parts.shape[-3]
    blocks = np.moveaxis(parts, (-4, -3), (-3, -1)).reshape(-1, SIDE * n, SIDE * n).copy()
    basis = cosines(n).astype(np.float32)
    blocks[:, :n, :n] = basis @ parts[..., 0, 0] @ basis.T
    return blocks[np.newaxis]


@dataclass(frozen=True)
class ChosenSizes:
    """Joins blocks where the estimated cost of their coefficients falls, quantized by a step.

    The estimate lacks the contexts of the coder: none is joined where part of the
    plane, quantized and coded both ways, costs less so.
    """

    step: float
    quantizer: Quantizer

    def forward(self, transforms: list[Float32]) -> Sized:
        joined = self._joined(transforms)
        two, four = (np.zeros_like(x) for x in joined.joined)
        apart = Sized((two, four), transforms[0])
        if not joined.joined[0].any() or self._cost(joined) >= self._cost(apart):
            return apart
        return joined

    def _cost(self, sized: Sized) -> float:
        """Squared error and bits of the middle of a plane, in squared steps."""
        from magnetite.core.codecs.entropy.rdo import BIT

        rows, columns = sized.blocks.shape[:2]
        tried = min(rows, max(1, _TRIED // (columns * SIDE**2)))
        part = sized.blocks[(rows - tried) // 2 :][:tried]
        numbers = self.quantizer.forward(part)
        error = (part - self.quantizer.backward(numbers)) / np.float32(self.step)
        return float(np.vdot(error, error)) + 8 * BIT * len(BACK_ENDS["range"].pack(numbers))

    def _joined(self, transforms: list[Float32]) -> Sized:
        stack = transforms[0].copy()
        least, joined = self._costs(transforms[0]), []
        for n, blocks in zip(JOINED, transforms[1:], strict=True):
            rows, columns = blocks.shape[:2]
            apart = least[: 2 * rows, : 2 * columns]
            apart = apart.reshape(rows, 2, columns, 2).sum(axis=(1, 3))
            cost = self._costs(blocks) * np.float32(_BIAS)
            where = cost < apart
            _cells(stack, n)[where] = _dealt(blocks[where], n)
            joined.append(where.astype(np.int32))
            least = np.where(where, cost / np.float32(_BIAS), apart)
        two, four = joined
        return Sized((np.maximum(two, _spread(four, two.shape)), four), stack)

    def backward(self, sized: Sized) -> Sized:
        return sized

    def _costs(self, blocks: Float32) -> Float32:
        """Cost of each block, shape (rows, columns), without the lowest frequencies.

        That is about the same for all sizes, and predicted from the blocks around.
        """
        lowest = blocks.shape[2] // SIDE
        count = blocks.shape[2] ** 2

        def of(part: slice) -> Float32:
            squares = np.square(blocks[part] * np.float32(1 / self.step))
            squares[..., :lowest, :lowest] = 0
            # The bits of a float are about its logarithm: 2^23 (127 + log2).
            logs = np.maximum(squares, np.float32(_LEAST)).view(np.int32) * np.float32(2.0**-23)
            coded = (logs - 127) * np.float32(_DOUBLING) + np.float32(_CODED)
            cost = np.where(squares > np.float32(_LEAST), coded, squares).sum(axis=(2, 3))
            share = (squares > np.float32(_LEAST)).mean(axis=(2, 3)).clip(1e-6, 1 - 1e-6)
            positions = count * (-share * np.log2(share) - (1 - share) * np.log2(1 - share))
            return np.asarray(cost + np.float32(_POSITIONS) * positions, np.float32)

        if blocks.size == 0:
            return np.zeros(blocks.shape[:2], np.float32)
        return np.concatenate(spread(of, bands_of(blocks)))


def _spread(joined: Int32, shape: tuple[int, ...]) -> Int32:
    """A map of larger blocks on the grid of those half as large, 0 where it does not reach."""
    wide = np.zeros(shape, np.int32)
    doubled = joined.repeat(2, axis=0).repeat(2, axis=1)
    wide[: doubled.shape[0], : doubled.shape[1]] = doubled
    return wide


def _apart(joined: tuple[Int32, Int32]) -> tuple[Int32, Int32]:
    """The same without smaller blocks within larger ones."""
    two, four = joined
    return two - _spread(four, two.shape), four


@dataclass(frozen=True)
class OnBlocks:
    """Puts the blocks through a layer and keeps their sizes."""

    layer: Layer

    def forward(self, sized: Sized) -> Sized:
        return Sized(sized.joined, self.layer.forward(sized.blocks))

    def backward(self, sized: Sized) -> Sized:
        return Sized(sized.joined, self.layer.backward(sized.blocks))


@dataclass(frozen=True)
class SizedLossless:
    """Packs numbers after maps of joined blocks: of four a side, then of two, next to the first."""

    grid: tuple[int, int]
    back_end: BackEndName

    def forward(self, sized: Sized) -> bytes:
        from magnetite.core.codecs.entropy import bits_model, stripes

        two, four = sized.joined
        maps = b""
        for joined, above in ((four, np.zeros_like(four)), (two, _spread(four, two.shape))):
            data = stripes.encode(bits_model.run, joined.copy(), above) if joined.size else b""
            maps += len(data).to_bytes(4, "little") + data
        return maps + self._numbers.forward(sized.blocks)

    def backward(self, data: bytes) -> Sized:
        from magnetite.core.codecs.entropy import bits_model, stripes

        joined: list[Int32] = []
        for n in reversed(JOINED):
            shape = (self.grid[0] // n, self.grid[1] // n)
            length = int.from_bytes(data[:4], "little")
            if length > len(data) - 4:
                raise StreamError("the compressed data end early")
            above = _spread(joined[0], shape) if joined else np.zeros(shape, np.int32)
            part, data = data[4 : 4 + length], data[4 + length :]
            decoded = stripes.decode(bits_model.run, part, shape, above) if above.size else above
            joined.append(np.maximum(decoded, above))
        four, two = joined
        return Sized((two, four), self._numbers.backward(data))

    @property
    def _numbers(self) -> Lossless:
        return Lossless((*self.grid, SIDE, SIDE), self.back_end)
