"""Colour layer: samples to separately coded planes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from magnetite.core.arrays import Float32, Float64, Int32, Pixels
from magnetite.core.errors import PictureError
from magnetite.core.picture.frame import Frame
from magnetite.core.picture.picture import LUMA_WEIGHTS


def _luma_chroma() -> Float64:
    """Matrix of Y, Cb, Cr from R, G, B on full-range units (ITU-T T.871, section 7)."""
    red, _, blue = LUMA_WEIGHTS
    luma = np.array(LUMA_WEIGHTS)
    cb = (np.array([0, 0, 1]) - luma) / (2 * (1 - blue))
    cr = (np.array([1, 0, 0]) - luma) / (2 * (1 - red))
    return np.stack([luma, cb, cr])


@dataclass(frozen=True)
class ColourPlanes:
    """Splits samples into planes; RGB may be turned into luma and chroma, chroma halved in size.

    Mid-gray is subtracted from all planes but chroma, so that all of them spread about 0. Half
    chroma is the mean of 2x2 samples (of fewer at an odd edge), enlarged again linearly.
    """

    frame: Frame
    mode: Literal["luma-chroma", "half-chroma", "none"]

    @property
    def _mixed(self) -> bool:
        return self.frame.colour == "rgb" and self.mode != "none"

    @property
    def names(self) -> list[str]:
        """Names of the planes in reports."""
        if self.frame.colour == "gray":
            return ["gray"]
        if self.frame.colour == "rgb":
            return ["luma", "cb", "cr"] if self._mixed else ["red", "green", "blue"]
        return [f"plane {i}" for i in range(1, self.frame.channels + 1)]

    @property
    def shapes(self) -> list[tuple[int, int]]:
        """Height and width of each plane."""
        whole = (self.frame.height, self.frame.width)
        if self._mixed and self.mode == "half-chroma":
            half = ((whole[0] + 1) // 2, (whole[1] + 1) // 2)
            return [whole, half, half]
        return [whole] * self.frame.channels

    def forward(self, pixels: Pixels) -> list[Float32]:
        if self.frame.colour == "gray":
            return [(pixels - 0.5).astype(np.float32)]
        if self._mixed:
            mixed = pixels @ _luma_chroma().T.astype(pixels.dtype)
            mixed[..., 0] -= 0.5
        else:
            mixed = pixels - pixels.dtype.type(0.5)
        planes = [np.ascontiguousarray(mixed[..., c], np.float32) for c in range(mixed.shape[2])]
        if self._mixed and self.mode == "half-chroma":
            planes[1:] = [_halved(plane) for plane in planes[1:]]
        return planes

    def backward(self, planes: list[Float32]) -> Pixels:
        if self.frame.colour == "gray":
            return planes[0] + np.float32(0.5)
        if self._mixed and self.mode == "half-chroma":
            chroma = [_doubled(plane, *planes[0].shape) for plane in planes[1:]]
            planes = [planes[0], *chroma]
        mixed = np.stack(planes, axis=-1)
        if not self._mixed:
            return mixed + np.float32(0.5)
        mixed[..., 0] += np.float32(0.5)
        return mixed @ np.linalg.inv(_luma_chroma()).T.astype(np.float32)


def digital_bits(frame: Frame, what: str) -> int:
    """Bit depth of the picture; `PictureError` for float, which has no digital numbers."""
    if frame.bits is None:
        raise PictureError(
            f"{what} codes digital numbers, and a float picture has none: store it at a bit depth"
        )
    return frame.bits


@dataclass(frozen=True)
class DigitalPlanes:
    """Splits samples into planes of digital numbers, less half of full scale.

    "reversible" turns RGB, without loss, into `⌊(R + 2G + B) / 4⌋`, B - G and R - G (ISO/IEC
    15444-1, annex G.2).
    """

    frame: Frame
    mode: Literal["reversible", "none"]

    @property
    def bits(self) -> int:
        """Bit depth of the samples."""
        return digital_bits(self.frame, "this codec")

    @property
    def _mixed(self) -> bool:
        return self.frame.colour == "rgb" and self.mode != "none"

    @property
    def names(self) -> list[str]:
        """Names of the planes in reports."""
        if not self._mixed:
            return ColourPlanes(self.frame, "none").names
        return ["luma", "b-g", "r-g"]

    @property
    def spans(self) -> list[tuple[int, int]]:
        """Least and largest number of each plane."""
        full, half = 2**self.bits - 1, 2 ** (self.bits - 1)
        plain = (-half, full - half)
        return [plain, (-full, full), (-full, full)] if self._mixed else (
            [plain] * self.frame.channels
        )  # fmt: skip

    def forward(self, pixels: Pixels) -> list[Int32]:
        full, half = 2**self.bits - 1, 2 ** (self.bits - 1)
        numbers = np.rint(pixels * pixels.dtype.type(full)).clip(0, full).astype(np.int32) - half
        if self.frame.colour == "gray":
            return [numbers]
        planes = [np.ascontiguousarray(numbers[..., c]) for c in range(numbers.shape[2])]
        if not self._mixed:
            return planes
        red, green, blue = planes
        return [(red + 2 * green + blue) >> 2, blue - green, red - green]

    def backward(self, planes: list[Int32]) -> Pixels:
        half, scale = 2 ** (self.bits - 1), np.float32(1 / (2**self.bits - 1))
        if self._mixed:
            first, blue, red = planes
            green = first - ((blue + red) >> 2)
            planes = [red + green, green, blue + green]
        stacked = planes[0] if self.frame.colour == "gray" else np.stack(planes, axis=-1)
        return np.asarray((stacked + half) * scale, np.float32)


def _halved(plane: Float32) -> Float32:
    height, width = plane.shape
    even = np.pad(plane, ((0, height % 2), (0, width % 2)), mode="edge")
    total = even[::2, ::2] + even[1::2, ::2] + even[::2, 1::2] + even[1::2, 1::2]
    return np.asarray(total / np.float32(4), np.float32)


def _doubled(plane: Float32, height: int, width: int) -> Float32:
    """Each sample lies in the middle of the four that it stands for."""
    for axis, size in ((0, height), (1, width)):
        padded = np.pad(plane, [(1, 1) if a == axis else (0, 0) for a in (0, 1)], mode="edge")
        lines = np.moveaxis(padded, axis, 0)
        wide = np.empty((2 * plane.shape[axis], lines.shape[1]), np.float32)
        wide[::2] = 0.25 * lines[:-2] + 0.75 * lines[1:-1]
        wide[1::2] = 0.75 * lines[1:-1] + 0.25 * lines[2:]
        plane = np.ascontiguousarray(np.moveaxis(wide[:size], 0, axis))
    return plane
