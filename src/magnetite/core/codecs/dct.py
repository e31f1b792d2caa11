"""Block transform codec."""

from __future__ import annotations

import math
from typing import Annotated, Literal

from magnetite.core.codecs.layers.backend import BackEndName, Lossless
from magnetite.core.codecs.layers.blocks import Blocks
from magnetite.core.codecs.layers.colour import ColourPlanes
from magnetite.core.codecs.layers.pipeline import EachPlane, Layer, Named, Pipeline
from magnetite.core.codecs.layers.quantizer import Quantizer, Selection
from magnetite.core.codecs.layers.settings import Optimise, Smooth
from magnetite.core.codecs.layers.sizes import (
    SIDE,
    ChosenSizes,
    OnBlocks,
    SizedLossless,
    SizedTransform,
)
from magnetite.core.codecs.layers.smoothing import Smoothed, Tagged
from magnetite.core.codecs.layers.stack import AcrossPlanes
from magnetite.core.codecs.layers.transform import CosineTransform
from magnetite.core.errors import PictureError
from magnetite.core.methods.amplitudes import Amplitude
from magnetite.core.methods.catalogue import ColourPolicy, codec
from magnetite.core.methods.parameters import BlockSize, Number, Share
from magnetite.core.picture.frame import Frame


@codec(
    "dct",
    summary="Cosine transform of blocks of one size, or of 8x8 to 32x32 by content; range coding.",
    colour=ColourPolicy.JOINT,
    source=(
        "Ahmed, Natarajan and Rao, IEEE Trans. Computers C-23(1), 1974, doi:10.1109/T-C.1974.223784"
    ),
    quality="step",
    finer="lower",
    points="1%,1.6%,2.7%,4.5%,7.5%,12%,20%,33%",
    slabbed=True,
)
def dct(
    frame: Frame,
    *,
    step: Annotated[
        float,
        Amplitude(low=1e-5, high=4.0),
        "quantizer step of the orthonormal coefficients; the rms error is at most about step / √12",
    ],
    block: Annotated[
        tuple[int, ...] | None,
        BlockSize(axes=4),
        "sides of a block, and its number of planes; 8x8 to 32x32 by rate if left out",
    ] = None,
    stack: Annotated[
        tuple[int, ...] | None,
        BlockSize(least=1),
        "arrangement of the planes, as 5x6 for 30 of them; along one axis if left out",
    ] = None,
    weights: Annotated[
        Literal["flat", "t81"],
        "one step for all frequencies, or in proportion to the luminance table of ITU-T T.81",
    ] = "flat",
    zone: Annotated[
        float, Number(0, 1.5), "largest coded frequency √((row / height)² + (column / width)²)"
    ] = 1.5,
    threshold: Annotated[
        float, Amplitude(high=100), "magnitude below which coefficients are zeroed"
    ] = 0.0,
    keep: Annotated[
        float, Share(), "share of the coefficients of a plane that are kept, the largest"
    ] = 1.0,
    optimise: Optimise = "on",
    smooth: Smooth = "on",
    colour: Annotated[
        Literal["luma-chroma", "half-chroma", "none"],
        "RGB as luma and chroma (ITU-T T.871), with chroma at half size, or unchanged",
    ] = "luma-chroma",
    backend: Annotated[BackEndName, "lossless packing of the quantized coefficients"] = "range",
) -> Pipeline:
    """Block transform codec: colour, blocks, cosine transform, quantizer, lossless back end.

    Computed in float32. Raises `PictureError` where block or stack do not fit the picture's
    planes.
    """
    planes = ColourPlanes(frame, colour)
    selection = Selection(zone, threshold, keep)
    stages: list[list[Layer]] = []
    quantizer = Quantizer(step, weights == "t81", optimise == "on", selection)
    for height, width in planes.shapes:
        blocks = Blocks(height, width, (SIDE, SIDE) if block is None else block[:2])
        if block is None and blocks.size == (SIDE, SIDE):
            chosen = ChosenSizes(step, quantizer)
            lossy: list[Layer] = [SizedTransform(blocks), chosen, OnBlocks(quantizer)]
            lossless: Layer = SizedLossless(blocks.grid, backend)
        else:
            lossy = [blocks, CosineTransform(), quantizer]
            lossless = Lossless((*blocks.grid, *blocks.size), backend)
        stages.append([Smoothed(lossy, step, smooth == "on"), Tagged(lossless)])
    across = _across(frame, () if block is None else block[2:], stack)
    if across is None:
        return Pipeline([planes, EachPlane(stages), Named(planes.names)])
    return Pipeline([planes, across, EachPlane(stages), Named(across.names)])


def _across(
    frame: Frame, sides: tuple[int, ...], stack: tuple[int, ...] | None
) -> AcrossPlanes | None:
    """The layer across planes; None for blocks within a plane."""
    if stack is not None and math.prod(stack) != frame.channels:
        raise PictureError(
            f"stack={'x'.join(map(str, stack))} arranges {math.prod(stack)} planes; "
            f"the picture has {frame.channels}"
        )
    if math.prod(sides) == 1:
        return None
    if frame.colour != "planes":
        raise PictureError(
            f"a block of {len(sides) + 2} sides is for stacks of planes, from NPY or TIFF; "
            f"this picture is {frame.colour}"
        )
    return AcrossPlanes(stack or (frame.channels,), sides)
