"""Restorations of artefacts of coding and coarse levels."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.methods.amplitudes import Amplitude
from magnetite.core.methods.catalogue import ColourPolicy, restoration
from magnetite.core.methods.parameters import BlockSize, Count, Length
from magnetite.core.restore._deblocking import Deblocking
from magnetite.core.restore.smoothing import bilateral, gaussian


@restoration(
    "deblock",
    summary="Smooth small steps at the borders of blocks.",
    colour=ColourPolicy.EACH,
    source="List, Joch, Lainema, Bjontegaard and Karczewicz, IEEE Trans. Circuits and Systems for "
    "Video Technology 13(7), 2003, doi:10.1109/TCSVT.2003.815175",
)
def deblock(
    pixels: Pixels,
    *,
    step: Annotated[float, Amplitude(), "quantizer step of the codec; 0 changes nothing"],
    block: Annotated[
        tuple[int, ...], BlockSize(), "sides of the blocks, from the upper left corner on"
    ] = (8, 8),
) -> Pixels:
    """Spread small steps across a border over the two samples on either side.

    Where the gap is below 0.6 step and the slopes next to it below 0.25 step, the samples next to
    the border take up 3/8 of the gap each, those behind them 1/8.
    """
    if step == 0:
        return pixels.copy()
    plane = pixels.astype(np.float32)
    return Deblocking(step, (block[0], block[1])).backward(plane).astype(pixels.dtype)


@restoration(
    "dering",
    summary="Smooth the neighbourhood of strong edges, but not the edges.",
    colour=ColourPolicy.EACH,
    source="our own, of bilateral filtering: Tomasi and Manduchi, Int. Conf. Computer Vision, "
    "1998, doi:10.1109/ICCV.1998.710815",
)
def dering(
    pixels: Pixels,
    *,
    range: Annotated[
        float, Amplitude(), "largest amplitude of the oscillations; 0 changes nothing"
    ],
    reach: Annotated[
        int,
        Count(1, 64),
        "largest distance of oscillations from their edge, px: a codec's block size",
    ] = 8,
    edge: Annotated[float, Amplitude(), "contrast of an edge"] = 0.15,
) -> Pixels:
    """A bilateral filter of sigma 2 px where an edge is within reach, the picture elsewhere.

    An edge is a sample where the difference of largest and smallest in its 3x3 window is above
    `edge`; edges themselves stay.
    """
    from scipy.ndimage import maximum_filter, minimum_filter

    contrast = maximum_filter(pixels, 3) - minimum_filter(pixels, 3)
    edges = contrast > edge
    near = maximum_filter(edges, 2 * reach + 1) & ~edges
    return np.where(near, bilateral(pixels, sigma=2.0, range=range), pixels)


@restoration(
    "dequantize",
    summary="Smooth coarse levels, every sample within the interval of its level.",
    colour=ColourPolicy.EACH,
    source="after Zakhor, IEEE Trans. Circuits and Systems for Video Technology 2(1), 1992, "
    "doi:10.1109/76.134377",
)
def dequantize(
    pixels: Pixels,
    *,
    step: Annotated[
        float, Amplitude(), "distance of two levels (of n bits 1 / (2^n - 1)); 0 changes nothing"
    ],
    sigma: Annotated[
        float, Length(0, 50), "standard deviation of the Gaussian; 0 changes nothing"
    ] = 1.0,
    iterations: Annotated[int, Count(1, 500), "number of iterations"] = 5,
) -> Pixels:
    """A Gaussian, then the nearest picture with |u - x| at most step / 2, again and again.

    For smooth pictures; texture finer than the step cannot be distinguished from levels.
    """
    half = pixels.dtype.type(step / 2)
    low, high, result = pixels - half, pixels + half, pixels
    for _ in np.arange(iterations):
        result = gaussian(result, sigma=sigma).clip(low, high)
    return result
