"""Singular values block by block: each block of a plane as a sum of few products."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float32, Int32
from magnetite.core.codecs.layers.backend import BACK_ENDS
from magnetite.core.codecs.layers.blocks import Blocks
from magnetite.core.codecs.layers.pipeline import Section
from magnetite.core.codecs.layers.terms import Keep, check_size
from magnetite.core.errors import StreamError

#: Levels of a singular value for each doubling, and the largest that is read.
_PER_DOUBLING, _TOP = 2, 80


@dataclass(frozen=True)
class BlockFactors:
    """Planes to three sections each: levels of the singular values, left and right factors.

    A singular value s is coded as `n = round(2 log₂(s / step)) + 1`, 0 for one that is left
    out: it only sets the steps of its vectors, which are scaled by √s. For a block of k terms,
    height h and width w those are `c √(w / ŝ)` on the left and `c √(h / ŝ)` on the right, with
    `ŝ = step 2^((n - 1) / 2)` and `c = step / √(2 k)`: each vector adds about c² / 12 to the mean
    squared error.
    """

    blocks: Blocks
    names: Sequence[str]
    keep: Keep
    step: float

    def forward(self, planes: list[Float32]) -> list[Section]:
        pairs = zip(self.names, planes, strict=True)
        return [section for name, plane in pairs for section in self._sections(name, plane)]

    def backward(self, sections: Sequence[bytes]) -> list[Float32]:
        if len(sections) != 3 * len(self.names):
            raise StreamError("the number of sections is not that of the planes' factors")
        return [self._plane(*sections[i : i + 3]) for i in range(0, len(sections), 3)]

    def _sections(self, name: str, plane: Float32) -> list[Section]:
        blocks = self.blocks.forward(plane)
        check_size(*blocks.shape[2:])
        left, values, right = np.linalg.svd(blocks.astype(np.float64), full_matrices=False)
        with np.errstate(divide="ignore"):
            levels = np.rint(_PER_DOUBLING * np.log2(values / self.step)).clip(0, _TOP - 1) + 1
        kept = self.keep.count(values, math.prod(self.blocks.size))
        position = np.arange(values.shape[-1])
        # A term below the step is lost in the quantization of the others.
        levels = np.where((position < kept[..., np.newaxis]) & (values >= self.step), levels, 0)
        most = int((levels > 0).sum(axis=-1).max())
        numbers = levels[..., :most].astype(np.int32)
        root = np.sqrt(values[..., :most])
        on_left, on_right = self._steps(numbers)
        sides = (
            np.swapaxes(left[..., :most], -1, -2) * (root / on_left)[..., np.newaxis],
            right[..., :most, :] * (root / on_right)[..., np.newaxis],
        )
        coded = [np.rint(s * (numbers[..., np.newaxis] > 0)).astype(np.int32) for s in sides]
        head = most.to_bytes(2, "little")
        return [
            Section(f"{name} levels", head + _pack(numbers[..., np.newaxis, :])),
            Section(f"{name} left", _pack(coded[0])),
            Section(f"{name} right", _pack(coded[1])),
        ]

    def _plane(self, terms: bytes, left: bytes, right: bytes) -> Float32:
        most = int.from_bytes(terms[:2], "little")
        height, width = self.blocks.size
        if most > min(height, width):
            raise StreamError("more terms are declared than a block has")
        grid = self.blocks.grid
        numbers = _unpack(terms[2:], (*grid, 1, most))[..., 0, :]
        if numbers.size and not 0 <= numbers.min() <= numbers.max() <= _TOP:
            raise StreamError("the singular values are none")
        on_left, on_right = self._steps(numbers)
        columns = _unpack(left, (*grid, most, height)) * on_left[..., np.newaxis]
        rows = _unpack(right, (*grid, most, width)) * on_right[..., np.newaxis]
        blocks = np.einsum("abkh,abkw->abhw", columns, rows, optimize=True)
        return self.blocks.backward(blocks.astype(np.float32))

    def _steps(self, levels: Int32) -> tuple[Float32, Float32]:
        """Quantizer steps of the left and right vectors, shape (rows, columns, terms)."""
        count = (levels > 0).sum(axis=-1, keepdims=True).clip(1, None)
        unit = self.step / np.sqrt(2.0 * count)
        size = self.step * np.exp2((levels - 1) / _PER_DOUBLING)
        height, width = self.blocks.size
        on_left, on_right = (unit * np.sqrt(side / size) for side in (width, height))
        return on_left.astype(np.float32), on_right.astype(np.float32)


def _pack(numbers: Int32) -> bytes:
    return BACK_ENDS["range"].pack(numbers) if numbers.size else b""


def _unpack(data: bytes, shape: tuple[int, int, int, int]) -> Int32:
    if 0 in shape:
        return np.zeros(shape, np.int32)
    return BACK_ENDS["range"].unpack(data, shape)
