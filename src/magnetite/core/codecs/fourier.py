"""Codec of the largest Fourier coefficients of the whole picture."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from magnetite.core.arrays import Bools, Complex128, Float32, Int32, Int64
from magnetite.core.codecs.layers.backend import BACK_ENDS
from magnetite.core.codecs.layers.colour import ColourPlanes
from magnetite.core.codecs.layers.pipeline import Pipeline, Section
from magnetite.core.codecs.layers.settings import LumaChroma
from magnetite.core.compute.threads import threads
from magnetite.core.errors import StreamError
from magnetite.core.methods.catalogue import ColourPolicy, codec
from magnetite.core.methods.parameters import Count, Share
from magnetite.core.picture.frame import Frame

#: Magnitudes are coded as logarithms in steps of this factor, about 0.75 dB.
_FACTOR = 2 ** (1 / 8)


@codec(
    "fourier",
    summary="The largest Fourier coefficients of the whole picture: positions, magnitudes, phases.",
    colour=ColourPolicy.JOINT,
    source="Oppenheim and Lim, Proc. IEEE 69(5), 1981, doi:10.1109/PROC.1981.12022",
    quality="keep",
    finer="higher",
    points="0.2%,0.5%,1%,2%,5%,10%,20%,40%",
)
def fourier(
    frame: Frame,
    *,
    keep: Annotated[
        float, Share(), "share of the coefficients of a plane that are kept, the largest"
    ],
    phase_bits: Annotated[int, Count(2, 12), "bits of a phase"] = 6,
    colour: LumaChroma = "luma-chroma",
) -> Pipeline:
    """Keep a share of the coefficients of the orthonormal transform, the largest of each plane.

    A real picture's spectrum is its own mirror image: one half of it is coded, and counts.
    Positions are coded as a map of bits, magnitudes as logarithms in steps of 2^(1/8), phases in
    `2^phase_bits` even steps; both are decoded to the middle of their step.
    """
    planes = ColourPlanes(frame, colour)
    spectrum = Spectrum(planes.names, (frame.height, frame.width), keep, phase_bits)
    return Pipeline([planes, spectrum])


@dataclass(frozen=True)
class Spectrum:
    """Planes to three sections each: positions, magnitudes, phases."""

    names: Sequence[str]
    shape: tuple[int, int]
    keep: float
    phase_bits: int

    def forward(self, planes: list[Float32]) -> list[Section]:
        from scipy.fft import rfft2

        from magnetite.core.codecs.entropy import bits_model, stripes

        sections = []
        for name, plane in zip(self.names, planes, strict=True):
            half = rfft2(plane.astype(np.float64), norm="ortho", workers=threads())
            size = np.where(self._own, np.abs(half), 0.0)
            count = max(1, round(self.keep * int(self._own.sum())))
            least = np.partition(size.ravel(), size.size - count)[size.size - count]
            positions = (size >= max(least, 1e-9)).astype(np.int32)
            chosen = half[positions > 0]
            levels = np.rint(np.log(np.abs(chosen)) / np.log(_FACTOR)).astype(np.int32)
            turns = np.floor(np.angle(chosen) / (2 * np.pi) % 1 * 2**self.phase_bits)
            nothing = np.zeros_like(positions)
            sections += [
                Section(f"{name} positions", stripes.encode(bits_model.run, positions, nothing)),
                Section(f"{name} magnitudes", _pack(levels)),
                Section(f"{name} phases", self._pack_phases(turns.astype(np.int64))),
            ]
        return sections

    def backward(self, sections: Sequence[bytes]) -> list[Float32]:
        from scipy.fft import irfft2

        from magnetite.core.codecs.entropy import bits_model, stripes

        if len(sections) != 3 * len(self.names):
            raise StreamError("the number of sections is not that of the planes' spectra")
        planes = []
        for i in range(len(self.names)):
            where, magnitudes, phases = sections[3 * i : 3 * i + 3]
            shape = self._own.shape
            nothing = np.zeros(shape, np.int32)
            positions = stripes.decode(bits_model.run, where, (shape[0], shape[1]), nothing) > 0
            count = int(positions.sum())
            levels = _unpack(magnitudes, count)
            turns = (self._unpack_phases(phases, count) + 0.5) / 2**self.phase_bits
            half = np.zeros(shape, np.complex128)
            size = np.exp(np.log(_FACTOR) * levels.clip(-200, 400))
            half[positions] = size * np.exp(2j * np.pi * turns)
            self._mirror(half)
            plane = irfft2(half, s=self.shape, norm="ortho", workers=threads())
            planes.append(np.asarray(plane, np.float32))
        return planes

    @property
    def _own(self) -> Bools:
        """Coefficients of the half spectrum that are not a mirror image of another of it."""
        height, width = self.shape
        own = np.ones((height, width // 2 + 1), bool)
        for column in self._mirrored_columns:
            own[height // 2 + 1 :, column] = False
        return own

    @property
    def _mirrored_columns(self) -> list[int]:
        width = self.shape[1]
        return [0] if width % 2 else [0, width // 2]

    def _mirror(self, half: Complex128) -> None:
        """Fill in the conjugate half; coefficients that are their own conjugate are real."""
        height = self.shape[0]
        for column in self._mirrored_columns:
            for row in {0, height // 2} if height % 2 == 0 else {0}:
                value = half[row, column]
                half[row, column] = np.copysign(abs(value), value.real)
            below = half[1 : (height + 1) // 2, column]
            half[height // 2 + 1 :, column] = below[::-1].conj()

    def _pack_phases(self, turns: Int64) -> bytes:
        bits = (turns[:, np.newaxis] >> np.arange(self.phase_bits)) & 1
        return np.packbits(bits.astype(np.uint8).ravel()).tobytes()

    def _unpack_phases(self, data: bytes, count: int) -> Int64:
        if len(data) != (count * self.phase_bits + 7) // 8:
            raise StreamError("the number of phases is not that of the positions")
        bits = np.unpackbits(np.frombuffer(data, np.uint8), count=count * self.phase_bits)
        each = bits.reshape(count, self.phase_bits).astype(np.int64)
        return np.asarray(each @ (1 << np.arange(self.phase_bits)), np.int64)


def _pack(levels: Int32) -> bytes:
    return BACK_ENDS["range"].pack(levels.reshape(1, -1, 1, 1)) if levels.size else b""


def _unpack(data: bytes, count: int) -> Int32:
    if count == 0:
        return np.zeros(0, np.int32)
    return BACK_ENDS["range"].unpack(data, (1, count, 1, 1)).ravel()
