"""Smoothing layer: on decoding, differences that only quantization caused are removed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.arrays import Float32
from magnetite.core.codecs.layers.pipeline import Compound, Layer, Memory, back, through
from magnetite.core.compute.sliding import thresholded
from magnetite.core.errors import StreamError

#: The strength that an encoder tries first, and the largest that is read, in tenths of a step.
_USUAL, _LARGEST = 4, 20
#: Samples on which an encoder compares strengths, and rows of their bands.
_SAMPLES, _ROWS = 2**19, 64


class Coded(NamedTuple):
    """Numbers of a plane, and how much it is smoothed when decoded."""

    strength: int
    numbers: Any


@dataclass(frozen=True)
class Smoothed(Compound):
    """Lossy layers, and the reduction of their error on decoding.

    The decoded plane becomes the mean of all 8x8 blocks that cover a sample, at all positions,
    without the coefficients below `strength` tenths of a step; a block with n coefficients left
    has the weight 1 / n. The encoder takes the strength that leaves the least squared error, or
    none. After Nosratinia, J. VLSI Signal Processing 27, 2001, doi:10.1023/A:1008163510786, with
    thresholds instead of coding again.
    """

    layers: Sequence[Layer]
    step: float
    smooth: bool

    def coded(self, plane: Float32, memory: Memory) -> Coded:
        numbers = through(self.layers, plane, memory)
        if not self.smooth:
            return Coded(0, numbers)
        return Coded(_best_strength(plane, back(self.layers, numbers), self.step), numbers)

    def backward(self, coded: Coded) -> Any:
        plane = back(self.layers, coded.numbers)
        return _smoothed(plane, coded.strength, self.step)


@dataclass(frozen=True)
class Tagged:
    """Packs numbers by another layer, after one byte for the strength."""

    layer: Layer

    def forward(self, coded: Coded) -> bytes:
        data: bytes = self.layer.forward(coded.numbers)
        return bytes([coded.strength]) + data

    def backward(self, data: bytes) -> Coded:
        if not data:
            raise StreamError("the compressed data end early")
        return Coded(checked_strength(data[0]), self.layer.backward(data[1:]))


def checked_strength(byte: int) -> int:
    """The strength; `StreamError` for one that no encoder writes."""
    if byte > _LARGEST:
        raise StreamError(f"the compressed data declare smoothing by {byte / 10} steps")
    return byte


def _smoothed(plane: Float32, strength: int, step: float) -> Float32:
    if strength == 0:
        return plane
    return thresholded(plane, strength * step / 10, weighted=True)


def _best_strength(plane: Float32, decoded: Float32, step: float) -> int:
    """The strength of least squared error, by descent from a usual one."""
    rows = _sampled_rows(*plane.shape)

    def error(strength: int) -> float:
        gaps = (_smoothed(decoded[part], strength, step) - plane[part] for part in rows)
        return sum(float(np.vdot(gap, gap)) for gap in gaps)

    best, least = _USUAL, error(_USUAL)
    for way in (1, -1):
        while 1 <= best + way <= _LARGEST and (following := error(best + way)) < least:
            best, least = best + way, following
        if best != _USUAL:
            break
    return best if least < error(0) else 0


def _sampled_rows(height: int, width: int) -> list[slice]:
    """All rows, or of a large plane even bands of them."""
    count = _SAMPLES // (_ROWS * width)
    if height * width <= _SAMPLES or count * _ROWS >= height:
        return [slice(0, height)]
    starts = np.linspace(0, height - _ROWS, max(2, count)).astype(int)
    return [slice(start, start + _ROWS) for start in starts.tolist()]
