"""Facts of a picture that a step is bound by, before its samples are read."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Colour = Literal["gray", "rgb", "planes"]
#: Relation of samples to light; encoded: by a tone curve, such as that of sRGB.
Light = Literal["linear", "encoded", "unknown"]


def encoded_remark(light: Light, figures: str) -> tuple[str, ...]:
    """A remark on figures that are only right in linear light; none where samples may be linear."""
    if light != "encoded":
        return ()
    return (
        f"{figures} are right in linear light, and the samples are encoded: use to-linear first",
    )


@dataclass(frozen=True)
class Frame:
    """Size, colour and depth of a picture."""

    height: int
    width: int
    channels: int
    colour: Colour
    #: Bit depth, 1 to 16; None for float.
    bits: int | None = None
    light: Light = "unknown"

    @property
    def shape(self) -> tuple[int, ...]:
        """Shape of the samples: (h, w) for gray, (h, w, n) otherwise."""
        size = (self.height, self.width)
        return size if self.colour == "gray" else (*size, self.channels)

    @property
    def plane(self) -> int:
        """Samples of one channel."""
        return self.height * self.width

    @property
    def full_scale(self) -> float:
        """Largest digital number: 2^bits - 1, or 1.0 for float."""
        return 1.0 if self.bits is None else float(2**self.bits - 1)

    @property
    def step(self) -> float | None:
        """Distance of two digital numbers, of full scale; None for float."""
        return None if self.bits is None else 1 / self.full_scale

    def bpp(self, size: int) -> float:
        """Rate in bits per pixel of a file of `size` bytes that holds this picture."""
        return 8 * size / (self.width * self.height)

    def describe(self) -> str:
        """Size, colour and depth in words: `640x480 rgb, 8 bits`."""
        colour = f"{self.channels} planes" if self.colour == "planes" else self.colour
        depth = "float" if self.bits is None else f"{self.bits} bits"
        return f"{self.width}x{self.height} {colour}, {depth}"
