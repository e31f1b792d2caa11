"""Colour layer: samples to separately coded planes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from magnetite.core.codecs.layers import Frame
from magnetite.core.picture import LUMA_WEIGHTS, Pixels

Plane = NDArray[np.float32]


def _luma_chroma() -> NDArray[np.float64]:
    """Matrix of Y, Cb, Cr from R, G, B on full-range units (ITU-T T.871, section 7)."""
    red, _, blue = LUMA_WEIGHTS
    luma = np.array(LUMA_WEIGHTS)
    cb = (np.array([0, 0, 1]) - luma) / (2 * (1 - blue))
    cr = (np.array([1, 0, 0]) - luma) / (2 * (1 - red))
    return np.stack([luma, cb, cr])


@dataclass(frozen=True)
class ColourPlanes:
    """Splits samples into planes; RGB may be turned into luma and chroma first.

    Mid-gray is subtracted from all planes but chroma, so that all of them spread about 0.
    """

    frame: Frame
    luma_chroma: bool

    @property
    def names(self) -> list[str]:
        """What the planes are called in reports."""
        if self.frame.colour == "gray":
            return ["gray"]
        if self.frame.colour == "rgb":
            return ["luma", "cb", "cr"] if self.luma_chroma else ["red", "green", "blue"]
        return [f"plane {i}" for i in range(1, self.frame.channels + 1)]

    def forward(self, pixels: Pixels) -> list[Plane]:
        if self.frame.colour == "gray":
            return [(pixels - 0.5).astype(np.float32)]
        if self.luma_chroma:
            mixed = pixels @ _luma_chroma().T.astype(pixels.dtype)
            mixed[..., 0] -= 0.5
        else:
            mixed = pixels - pixels.dtype.type(0.5)
        return [np.ascontiguousarray(mixed[..., c], np.float32) for c in range(mixed.shape[2])]

    def backward(self, planes: list[Plane]) -> Pixels:
        if self.frame.colour == "gray":
            return planes[0] + np.float32(0.5)
        mixed = np.stack(planes, axis=-1)
        if not self.luma_chroma:
            return mixed + np.float32(0.5)
        mixed[..., 0] += np.float32(0.5)
        return mixed @ np.linalg.inv(_luma_chroma()).T.astype(np.float32)
