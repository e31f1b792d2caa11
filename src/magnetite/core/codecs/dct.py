"""Block transform codec."""

from __future__ import annotations

import math
from typing import Annotated, Literal

from magnetite.core.amplitudes import Amplitude
from magnetite.core.codecs.backend import BackEndName, Lossless
from magnetite.core.codecs.blocks import Blocks
from magnetite.core.codecs.colour import ColourPlanes
from magnetite.core.codecs.layers import Frame, Pipeline
from magnetite.core.codecs.quantizer import UniformQuantizer
from magnetite.core.codecs.transform import CosineTransform
from magnetite.core.parameters import BlockSize
from magnetite.core.registry import ColourPolicy, codec


@codec(
    "dct",
    summary="Cosine transform of blocks, uniform quantizer, lossless packing.",
    colour=ColourPolicy.JOINT,
    source=(
        "Ahmed, Natarajan and Rao, IEEE Trans. Computers C-23(1), 1974, doi:10.1109/T-C.1974.223784"
    ),
    quality="step",
    points="1%,1.6%,2.7%,4.5%,7.5%,12%,20%,33%",
)
def dct(
    frame: Frame,
    *,
    step: Annotated[float, Amplitude(low=1e-5, high=4.0)],
    block: Annotated[tuple[int, int], BlockSize()] = (8, 8),
    colour: Literal["luma-chroma", "none"] = "luma-chroma",
    backend: BackEndName = "zlib",
) -> Pipeline:
    """Block transform codec: colour, blocks, cosine transform, quantizer, lossless back end.

    Parameters
    ----------
    frame : Frame
        Shape of what is coded.
    step : float
        Quantizer step of the orthonormal coefficients, share of full scale. The error of a
        coefficient, and so the rms error of the samples, is about step / √12 where all
        coefficients are coded, and less than that where most are zero.
    block : (int, int)
        Height and width of the blocks, any size; cut down to the picture's own.
    colour : "luma-chroma" or "none"
        Whether RGB is coded as luma and chroma (ITU-T T.871) or as it is.
    backend : "zlib" or "raw"
        Lossless packing of the quantized coefficients.

    Returns
    -------
    Pipeline
        float32 throughout.
    """
    planes = ColourPlanes(frame, luma_chroma=frame.colour == "rgb" and colour == "luma-chroma")
    blocks = Blocks(frame.height, frame.width, block)
    lossless = Lossless(planes.names, math.prod(blocks.grid), blocks.size, backend)
    return Pipeline([planes, blocks, CosineTransform(), UniformQuantizer(step), lossless])
