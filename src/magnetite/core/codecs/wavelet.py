"""Wavelet codec with an embedded stream."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any, Literal

import numpy as np

from magnetite.core.arrays import Int32
from magnetite.core.codecs.layers.colour import ColourPlanes, DigitalPlanes, digital_bits
from magnetite.core.codecs.layers.embedded import Bands, Embedded, Known
from magnetite.core.codecs.layers.lifting import Filter, analyse, synthesise
from magnetite.core.codecs.layers.pipeline import Layer, Pipeline
from magnetite.core.codecs.layers.quantizer import check_range
from magnetite.core.methods.amplitudes import Amplitude
from magnetite.core.methods.catalogue import ColourPolicy, codec
from magnetite.core.methods.parameters import Count
from magnetite.core.picture.frame import Frame


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
    step: Annotated[float, Amplitude(low=1e-5, high=4.0)],
    filter: Literal["9/7", "5/3", "haar"] = "9/7",
    levels: Annotated[int, Count(0, 12)] = 6,
    colour: Literal["luma-chroma", "none"] = "luma-chroma",
) -> Pipeline:
    """Wavelet codec: colour, wavelet transform, quantizer with a dead zone, embedded bit planes.

    Parameters
    ----------
    frame : Frame
        Shape of what is coded.
    step : float
        Quantizer step, share of full scale: magnitudes are divided by it and rounded down. With
        the 5/3 filter on digital numbers it is rounded to whole dn, and 1dn loses nothing.
    filter : "9/7", "5/3" or "haar"
        "9/7" is best for lossy coding, "5/3" maps whole numbers to whole numbers.
    levels : int
        How often the low band is split again; as often as its shorter side allows at most.
    colour : "luma-chroma" or "none"
        Whether RGB is coded as luma and chroma (reversibly with 5/3) or as it is.

    Returns
    -------
    Pipeline
        Its stream decodes wherever it is cut.

    Raises
    ------
    PictureError
        If a float picture is to be coded with 5/3.
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
    embedded = Embedded(planes.names, shapes, levels)
    layers: list[Layer] = [planes, Wavelets(filter, levels), DeadZone(step, exact), embedded]
    return Pipeline(layers, embedded=True)


@dataclass(frozen=True)
class Wavelets:
    """Splits each plane into bands, from coarse to fine."""

    filter: Filter
    levels: int

    def forward(self, planes: list[Any]) -> list[Any]:
        return [analyse(plane, self.filter, self.levels) for plane in planes]

    def backward(self, planes: list[Any]) -> list[Any]:
        return [synthesise(bands, self.filter) for bands in planes]


@dataclass(frozen=True)
class DeadZone:
    """Divides magnitudes by a step and rounds down, so that twice the step around 0 becomes 0.

    A magnitude known to be n in units of `step 2^p` is taken for `n + 0.42` of them where n is
    1 and `n + 0.48` above: small ones are more frequent than large ones. An exact number, with
    step and unit 1, is itself.
    """

    step: float
    exact: bool

    def forward(self, planes: list[list[list[Any]]]) -> list[Bands]:
        return [[[self._quantized(band) for band in level] for level in bands] for bands in planes]

    def backward(self, planes: list[Known]) -> list[list[list[Any]]]:
        return [[[self._middle(*pair) for pair in level] for level in bands] for bands in planes]

    def _quantized(self, band: Any) -> Int32:
        if self.exact:
            whole = np.abs(band) // int(self.step)
            return np.asarray(np.sign(band) * whole, np.int32)
        scaled = band / np.float32(self.step)
        check_range(scaled)
        return np.asarray(scaled, np.int32)  # towards 0

    def _middle(self, numbers: Int32, plane: Int32) -> Any:
        size = np.abs(numbers)
        within = np.where(size == 1, np.float32(0.42), np.float32(0.48)) * (size > 0)
        unit = np.ldexp(np.float32(self.step), plane)
        values = np.sign(numbers) * (size + within) * unit
        if not self.exact:
            return np.asarray(values, np.float32)
        known = unit == 1
        return np.where(known, numbers, np.rint(values)).astype(np.int32)
