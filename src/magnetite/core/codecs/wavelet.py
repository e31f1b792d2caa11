"""Wavelet codec with an embedded stream."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any, Literal

import numpy as np

from magnetite.core.arrays import Int32
from magnetite.core.codecs.layers.colour import ColourPlanes, DigitalPlanes, digital_bits
from magnetite.core.codecs.layers.embedded import Bands, Embedded, Known
from magnetite.core.codecs.layers.lifting import Filter, analyse, band_norms, synthesise
from magnetite.core.codecs.layers.pipeline import EachPlane, Pipeline
from magnetite.core.codecs.layers.quantizer import check_range
from magnetite.core.codecs.layers.settings import Optimise, Smooth
from magnetite.core.codecs.layers.smoothing import Smoothed
from magnetite.core.compute.bands import on_bands
from magnetite.core.methods.amplitudes import Amplitude
from magnetite.core.methods.catalogue import ColourPolicy, codec
from magnetite.core.methods.parameters import Count
from magnetite.core.picture.frame import Frame

#: Rows of a band that are worked on at a time.
_ROWS = 64


@codec(
    "wavelet",
    summary="Wavelets, bit planes in contexts: a file that can be cut anywhere.",
    colour=ColourPolicy.JOINT,
    source="Antonini, Barlaud, Mathieu and Daubechies, IEEE Trans. Image Processing 1(2), 1992, "
    "doi:10.1109/83.136597; Shapiro, IEEE Trans. Signal Processing 41(12), 1993, "
    "doi:10.1109/78.258085",
    quality="step",
    finer="lower",
    points="0.6%,1.1%,1.9%,3.3%,5.5%,9.5%,16%,28%",
)
def wavelet(
    frame: Frame,
    *,
    step: Annotated[
        float,
        Amplitude(low=1e-5, high=4.0),
        "quantizer step, over the L2 norm of the synthesis; with 5/3 whole dn, and 1dn is lossless",
    ],
    filter: Annotated[
        Literal["9/7", "5/3", "haar"],
        "9/7 is best for lossy coding, 5/3 maps whole numbers to whole numbers",
    ] = "9/7",
    levels: Annotated[
        int, Count(0, 12), "splits of the low band, at most as many as its shorter side allows"
    ] = 6,
    optimise: Optimise = "on",
    smooth: Smooth = "on",
    colour: Annotated[
        Literal["luma-chroma", "none"], "RGB as luma and chroma (reversibly with 5/3), or unchanged"
    ] = "luma-chroma",
) -> Pipeline:
    """Wavelet codec: colour, wavelet transform, optimised quantizer, embedded bit planes.

    The stream decodes from any number of its first bytes. Raises `PictureError` for float pictures
    with 5/3.
    """
    levels = min(levels, min(frame.height, frame.width).bit_length() - 1)
    exact = filter == "5/3"
    planes: ColourPlanes | DigitalPlanes
    if exact:
        bits = digital_bits(frame, "filter=5/3")
        planes = DigitalPlanes(frame, "reversible" if colour == "luma-chroma" else "none")
        step = float(max(1, round(step * (2**bits - 1))))
    else:
        planes = ColourPlanes(frame, colour)
    shapes = [(frame.height, frame.width)] * frame.channels
    lossy = Smoothed(
        [Wavelets(filter, levels), Rounding(step, filter, optimise == "on")],
        step,
        smooth == "on" and not exact,
    )
    embedded = Embedded(planes.names, shapes, levels)
    return Pipeline([planes, EachPlane([[lossy]] * frame.channels), embedded], embedded=True)


@dataclass(frozen=True)
class Wavelets:
    """Splits a plane into bands, from coarse to fine."""

    filter: Filter
    levels: int

    def forward(self, plane: Any) -> Any:
        return analyse(plane, self.filter, self.levels)

    def backward(self, bands: Any) -> Any:
        return synthesise(bands, self.filter)


@dataclass(frozen=True)
class Rounding:
    """Divides the numbers of bands by the steps of the bands and rounds.

    With `optimise`, they are lowered where that saves more rate than it costs in error (see
    `rdo`). A magnitude n that is known to plane p alone may have been any from `n 2^p` to
    `(n + 1) 2^p - 1`; it is taken for `n 2^p + share (2^p - 1)`, the share 0.42 where n is 1 and
    0.48 above: small ones are more frequent than large ones.
    """

    step: float
    filter: Filter
    optimise: bool

    def forward(self, bands: list[list[Any]]) -> Bands:
        return [[self._rounded(*band) for band in level] for level in self._with_steps(bands)]

    def backward(self, bands: Known | Bands) -> list[list[Any]]:
        return [
            [self._middle(*_known(band), step) for band, step in level]
            for level in self._with_steps(bands)
        ]

    def _with_steps(self, bands: Any) -> list[list[tuple[Any, float]]]:
        norms = band_norms(self.filter, len(bands) - 1)
        return [
            [(band, self._step(norm)) for band, norm in zip(*level, strict=True)]
            for level in zip(bands, norms, strict=True)
        ]

    def _step(self, norm: float) -> float:
        if self._exact:
            return 1.0 if self.step == 1 else max(1.0, float(round(self.step / norm)))
        return self.step / norm

    @property
    def _exact(self) -> bool:
        return self.filter == "5/3"

    def _rounded(self, band: Any, step: float) -> Int32:
        if self._exact and step == 1:
            return np.asarray(band, np.int32)
        scaled = np.divide(band, step, dtype=np.float32)
        if self._exact and step % 2 == 0:  # as many whole numbers to each number but 0
            scaled -= np.sign(scaled) * np.float32(0.5 / step)
        check_range(scaled)
        if not self.optimise:
            return np.asarray(np.rint(scaled), np.int32)
        from magnetite.core.codecs.entropy.rdo import quantize_band

        return quantize_band(scaled)

    def _middle(self, numbers: Int32, plane: Int32 | None, step: float) -> Any:
        values = np.empty(numbers.shape, np.int32 if self._exact else np.float32)
        units = np.exp2(np.arange(32, dtype=np.float32))

        def work(rows: slice) -> None:
            middle = numbers[rows].astype(np.float32)
            if plane is not None:
                size, unit = np.abs(middle), units[plane[rows]]
                share = np.where(size == 1, np.float32(0.42), np.float32(0.48)) * (size > 0)
                middle = np.copysign(size * unit + share * (unit - 1), middle)
            middle *= np.float32(step)
            values[rows] = np.rint(middle) if self._exact else middle

        on_bands(work, numbers, _ROWS)
        return values


def _known(band: Any) -> tuple[Int32, Int32 | None]:
    """Numbers, and to which plane each is known; None for whole numbers."""
    return band if isinstance(band, tuple) else (band, None)
