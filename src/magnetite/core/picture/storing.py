"""Samples as a bit depth stores them: rounded, clipped at both ends, and counted."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from magnetite.core.arrays import Float32, Pixels, Samples
from magnetite.core.compute.bands import bands_of
from magnetite.core.compute.compiling import compiled_pays
from magnetite.core.compute.threads import spread


class Clipped(NamedTuple):
    """Numbers of samples clipped at black and at full scale, and of all samples."""

    low: int
    high: int
    total: int

    @property
    def share(self) -> float:
        """Share of samples clipped on either side, 0 to 1."""
        return (self.low + self.high) / self.total

    def and_of(self, other: Clipped) -> Clipped:
        """Of two parts together."""
        return Clipped(*map(sum, zip(self, other, strict=True)))


def stored(pixels: Pixels, full_scale: float, dtype: Any) -> tuple[Samples, Clipped]:
    """The nearest whole numbers of 0 to `full_scale`, any shape, and counts of clipped samples."""
    samples = np.empty(pixels.shape, dtype)
    store = _store
    if pixels.dtype == np.float32 and compiled_pays(pixels.size):
        store = _store_compiled

    def work(part: slice) -> Clipped:
        return store(pixels[part], full_scale, samples[part])

    return samples, Clipped(*map(sum, zip(*spread(work, bands_of(pixels)), strict=True)))


def _store_compiled(pixels: Pixels, full_scale: float, out: Samples) -> Clipped:
    from magnetite.core.compute.jit import readable
    from magnetite.core.picture.kernels import store

    flat = readable(pixels).reshape(-1)
    return Clipped(*store(flat, np.float32(full_scale), out.reshape(-1)), pixels.size)


def _store(pixels: Pixels, full_scale: float, out: Samples) -> Clipped:
    rounded = pixels * pixels.dtype.type(full_scale)
    np.rint(rounded, out=rounded)
    low = high = 0
    if rounded.min() < 0 or rounded.max() > full_scale:
        low = int(np.count_nonzero(rounded < 0))
        high = int(np.count_nonzero(rounded > full_scale))
        np.clip(rounded, 0, full_scale, out=rounded)
    np.copyto(out, rounded, casting="unsafe")
    return Clipped(low, high, pixels.size)


def beyond(pixels: Pixels) -> Clipped:
    """Numbers of samples, any shape, below 0 and above 1."""

    def work(part: slice) -> Clipped:
        band = pixels[part]
        return Clipped(int((band < 0).sum()), int((band > 1).sum()), band.size)

    return Clipped(*map(sum, zip(*spread(work, bands_of(pixels)), strict=True)))


def on_full_scale(samples: Samples, full_scale: float) -> Float32:
    """Whole-number samples, any shape, as shares of full scale, in float32."""
    pixels = np.empty(samples.shape, np.float32)

    def work(part: slice) -> None:
        np.divide(samples[part], np.float32(full_scale), out=pixels[part], dtype=np.float32)

    spread(work, bands_of(samples))
    return pixels
