"""Settings that several codecs share."""

from __future__ import annotations

from typing import Annotated, Literal

LumaChroma = Annotated[Literal["luma-chroma", "none"], "RGB as luma and chroma, or as it is"]
Optimise = Annotated[Literal["on", "off"], "rate-distortion optimisation of the quantized numbers"]
Smooth = Annotated[
    Literal["on", "off"],
    "decoding to the mean of blocks at all positions, thresholded as the encoder found best",
]
