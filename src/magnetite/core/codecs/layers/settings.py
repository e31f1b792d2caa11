"""Settings that several codecs share."""

from __future__ import annotations

from typing import Annotated, Literal

from magnetite.core.methods.parameters import Share

Keep = Annotated[float, Share(), "kept share of a plane's coefficients, the largest"]
LumaChroma = Annotated[Literal["luma-chroma", "none"], "RGB as luma and chroma, or unchanged"]
Optimise = Annotated[Literal["on", "off"], "rate-distortion optimisation of the quantized numbers"]
Smooth = Annotated[
    Literal["on", "off"],
    "decode to the mean of blocks at all positions, with a threshold that the encoder chose",
]
