"""Codecs of few components: singular values of the picture, principal components of its rows."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import numpy as np

from magnetite.core.arrays import Float32, Int32
from magnetite.core.codecs.layers.backend import BACK_ENDS
from magnetite.core.codecs.layers.blocks import Blocks
from magnetite.core.codecs.layers.blockwise import BlockFactors
from magnetite.core.codecs.layers.colour import ColourPlanes
from magnetite.core.codecs.layers.pipeline import Pipeline, Section
from magnetite.core.codecs.layers.settings import LumaChroma
from magnetite.core.codecs.layers.terms import Keep, break_even, check_size
from magnetite.core.errors import StreamError
from magnetite.core.methods.amplitudes import Amplitude
from magnetite.core.methods.catalogue import ColourPolicy, codec
from magnetite.core.methods.parameters import BlockSize, Count, Share
from magnetite.core.picture.frame import Frame

_HALF_PERCENT = 0.005


def _break_even_remark(
    frame: Frame, sections: Sequence[Section], settings: Mapping[str, Any]
) -> list[str]:
    """Say which rank was coded, and when it does not pay."""
    block = settings["block"]
    if block is None:
        limit = break_even(frame.height, frame.width)
        ranks = [len(s.data) // 4 for s in sections if s.name.endswith("values")]
    else:
        limit = break_even(min(block[0], frame.height), min(block[1], frame.width))
        ranks = _largest_ranks(sections)
    words = "rank" if block is None else "largest rank of a block"
    whole = "picture" if block is None else "block"
    words += f" {', '.join(map(str, ranks))}; from {limit:.1f} on the factors hold more numbers"
    words += f" than the {whole}"
    if max(ranks) > limit:
        words += ": this rank does, and only quantization and coding make up for it"
    kept = [s.note for s in sections if s.note]
    return [words, *kept] if settings["energy"] is not None else [words]


def _largest_ranks(sections: Sequence[Section]) -> list[int]:
    """The largest rank of a block in each plane, of all slabs."""
    largest: dict[str, int] = {}
    for section in sections:
        if "levels" in section.name:
            rank = int.from_bytes(section.data[:2], "little")
            largest[section.name] = max(rank, largest.get(section.name, 0))
    return list(largest.values())


def _kept_remark(
    frame: Frame, sections: Sequence[Section], settings: Mapping[str, Any]
) -> list[str]:
    """Remark on the number of components kept, and their share of the variance."""
    return [section.note for section in sections if section.note]


@codec(
    "svd",
    summary="The largest singular values of each plane, with their vectors, quantized and coded.",
    colour=ColourPolicy.JOINT,
    source="Andrews and Patterson, IEEE Trans. Communications 24(4), 1976, "
    "doi:10.1109/TCOM.1976.1093309",
    quality="rank",
    finer="higher",
    points="1,2,4,8,16,32,64,100",
    one_of=("rank", "energy", "error"),
    slabbed=lambda *, block, **_: block is not None,
    remark=_break_even_remark,
    memory=80,
)
def svd(
    frame: Frame,
    *,
    rank: Annotated[int | None, Count(1, 4096), "number of terms"] = None,
    energy: Annotated[
        float | None, Share(), "share of `Σ s_i²` that the terms hold; the fewest are taken"
    ] = None,
    error: Annotated[
        float | None,
        Amplitude(),
        "largest rms error before quantization; the fewest terms are taken",
    ] = None,
    block: Annotated[
        tuple[int, ...] | None,
        BlockSize(),
        "sides of blocks with a decomposition, and a rank, each; the whole picture if left out",
    ] = None,
    step: Annotated[
        float,
        Amplitude(low=1e-5, high=4.0),
        "quantizer step: the errors of the factors add up to step / √12",
    ] = _HALF_PERCENT,
    colour: LumaChroma = "luma-chroma",
) -> Pipeline:
    """Keep `k` terms of `A = Σ s_i u_i v_iᵀ`: the error is `√(Σ_{i>k} s_i²)` (Eckart and Young).

    Raises `PictureError` where the picture, or a block, has more than 2^23 pixels.
    """
    planes = ColourPlanes(frame, colour)
    if block is not None:
        blocks = Blocks(frame.height, frame.width, block)
        each = BlockFactors(blocks, planes.names, Keep(rank, energy, error), step)
        return Pipeline([planes, each])
    shape = (frame.height, frame.width)
    keep = Keep(rank, energy, error)
    factors = Factors(planes.names, [shape] * frame.channels, keep, step, False)
    return Pipeline([planes, factors])


@codec(
    "pca",
    summary="Principal components of rows or patches: mean, basis and scores, quantized and coded.",
    colour=ColourPolicy.JOINT,
    source="Jolliffe, Principal Component Analysis, 2nd ed. (2002), doi:10.1007/b98835",
    quality="components",
    finer="higher",
    points="1,2,4,8,16,32,48,64",
    one_of=("components", "variance"),
    remark=_kept_remark,
)
def pca(
    frame: Frame,
    *,
    components: Annotated[int | None, Count(1, 4096), "number of components"] = None,
    variance: Annotated[
        float | None,
        Share(),
        "share of the variance about the mean that is kept, by the fewest components",
    ] = None,
    of: Annotated[
        Literal["patches", "rows"], "samples that the components are learned from"
    ] = "patches",
    patch: Annotated[tuple[int, ...], BlockSize(64), "sides of a patch"] = (8, 8),
    step: Annotated[
        float,
        Amplitude(low=1e-5, high=4.0),
        "quantizer step: the errors of basis and scores add up to step / √12",
    ] = _HALF_PERCENT,
    colour: LumaChroma = "luma-chroma",
) -> Pipeline:
    """Mean of all patches (or rows) plus `k` components: the directions of the largest variance.

    Raises `PictureError` for the rows of a picture of more than 2^23 pixels.
    """
    planes = ColourPlanes(frame, colour)
    size = patch if of == "patches" else (1, frame.width)
    blocks = Blocks(frame.height, frame.width, size)
    shape = (math.prod(blocks.grid), math.prod(blocks.size))
    factors = Factors(
        planes.names, [shape] * frame.channels, Keep(components, variance), step, True
    )
    return Pipeline([planes, BlockRows(blocks), factors])


@dataclass(frozen=True)
class BlockRows:
    """Planes to matrices with a row for each block."""

    blocks: Blocks

    def forward(self, planes: list[Float32]) -> list[Float32]:
        return [
            self.blocks.forward(plane).reshape(math.prod(self.blocks.grid), -1) for plane in planes
        ]

    def backward(self, matrices: list[Float32]) -> list[Float32]:
        shape = (*self.blocks.grid, *self.blocks.size)
        return [self.blocks.backward(matrix.reshape(shape)) for matrix in matrices]


@dataclass(frozen=True)
class Factors:
    """Matrices to quantized factors of few terms, and their products back.

    Three sections for each matrix, four with a mean: the singular values (single precision), the
    left and the right factor. Column i of the left one is quantized with `c √(n / s_i)` and of the
    right one with `c √(m / s_i)`, `c = step / √(2 k)`: each of the 2 k columns then adds c² / 12
    to the mean squared error.
    """

    names: Sequence[str]
    shapes: Sequence[tuple[int, int]]
    keep: Keep
    step: float
    centred: bool

    def forward(self, matrices: list[Float32]) -> list[Section]:
        pairs = zip(self.names, matrices, strict=True)
        return [section for name, matrix in pairs for section in self._sections(name, matrix)]

    def _sections(self, name: str, matrix: Float32) -> list[Section]:
        sections = []
        if self.centred:
            mean = np.rint(matrix.mean(axis=0) / np.float32(self.step)).astype(np.int32)
            sections.append(Section(f"{name} mean", _pack(mean[np.newaxis])))
            matrix = matrix - mean * np.float32(self.step)
        left, spectrum, right = self._terms(matrix)
        kept = left.shape[1]
        values = spectrum[:kept].astype("<f4")
        note = f"{name}: {self._kept(spectrum, kept)}"
        sections.append(Section(f"{name} values", values.tobytes(), note=note))
        units = self._steps(values, matrix.shape)
        for side, factor, unit in zip(("left", "right"), (left, right), units, strict=True):
            numbers = np.rint(factor * np.sqrt(values) / unit).astype(np.int32)
            sections.append(Section(f"{name} {side}", _pack(numbers)))
        return sections

    def backward(self, sections: Sequence[bytes]) -> list[Float32]:
        each = 4 if self.centred else 3
        if len(sections) != each * len(self.names):
            raise StreamError("the number of sections is not that of the planes' factors")
        matrices = []
        for i, (height, width) in enumerate(self.shapes):
            *mean, values, left, right = sections[each * i : each * (i + 1)]
            spectrum = np.frombuffer(values[: len(values) // 4 * 4], "<f4")
            rank = spectrum.size
            if rank > min(height, width) or not (np.isfinite(spectrum) & (spectrum > 0)).all():
                raise StreamError("the singular values are none")
            steps = self._steps(spectrum, (height, width))
            factors = [
                _unpack(data, (side, rank)) * unit
                for data, side, unit in ((left, height, steps[0]), (right, width, steps[1]))
            ]
            matrix = np.asarray(factors[0] @ factors[1].T, np.float32)
            if mean:
                matrix += _unpack(mean[0], (1, width)) * np.float32(self.step)
            matrices.append(matrix)
        return matrices

    def _steps(self, values: Float32, shape: tuple[int, ...]) -> tuple[Float32, Float32]:
        """Quantizer steps of the columns of both factors; none is too fine to be coded."""
        unit = self.step / math.sqrt(2 * max(1, values.size))
        scale = np.sqrt(values.astype(np.float64)).clip(1e-6, None)
        left, right = (unit * math.sqrt(side) / scale for side in (shape[1], shape[0]))
        return left.astype(np.float32), right.astype(np.float32)

    def _terms(self, matrix: Float32) -> tuple[Float32, Float32, Float32]:
        """Left and right vectors of the terms that are kept, and all singular values."""
        height, width = matrix.shape
        check_size(height, width)
        from scipy.linalg import eigh
        from scipy.linalg import svd as decompose

        if height > 4 * width:  # many rows of few numbers: from their covariance
            squares, vectors = eigh(matrix.T.astype(np.float64) @ matrix)
            values = np.sqrt(squares[::-1].clip(0, None))
            right = vectors[:, ::-1]
            left = matrix @ right / np.where(values > 0, values, 1)
        else:
            left, values, transposed = decompose(matrix.astype(np.float64), full_matrices=False)
            right = transposed.T
        kept = int(self.keep.count(values, matrix.size))
        return left[:, :kept], values, right[:, :kept]

    def _kept(self, spectrum: Float32, kept: int) -> str:
        """How many terms are kept, and the share of the variance or energy that they hold."""
        squares = spectrum.astype(np.float64) ** 2
        share = float(squares[:kept].sum() / max(squares.sum(), 1e-300))
        what, noun = ("variance", "component") if self.centred else ("energy", "term")
        words = f"{kept} {noun}{'' if kept == 1 else 's'} hold{'s' if kept == 1 else ''}"
        words += f" {100 * share:.4g} % of the {what}"
        if self.keep.energy is not None and kept == 1:
            words += "; any smaller share gives the same picture"
        return words


def _pack(numbers: Int32) -> bytes:
    """A matrix of whole numbers, row after row: each in the context of the row above."""
    if numbers.size == 0:
        return b""
    return BACK_ENDS["range"].pack(numbers.reshape(numbers.shape[0], 1, 1, numbers.shape[1]))


def _unpack(data: bytes, shape: tuple[int, int]) -> Any:
    if 0 in shape:
        return np.zeros(shape, np.float32)
    return BACK_ENDS["range"].unpack(data, (shape[0], 1, 1, shape[1])).reshape(shape)
