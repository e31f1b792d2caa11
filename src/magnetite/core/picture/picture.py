"""A picture: its samples, bit depth, colour, and where it came from."""

from __future__ import annotations

import hashlib
import math
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from magnetite.core.arrays import Float64, Pixels, Samples
from magnetite.core.errors import PictureError
from magnetite.core.picture.frame import Colour, Frame, Light
from magnetite.core.picture.storing import Clipped, beyond, on_full_scale, stored
from magnetite.core.quantities import counted

#: Weights of red, green and blue in luma (ITU-R BT.601-7, section 2.5.1).
LUMA_WEIGHTS = (0.299, 0.587, 0.114)


#: A float picture whose samples reach further than this was not meant on 0..1.
LARGEST_FLOAT = 10.0


@dataclass(frozen=True, eq=False, repr=False)
class Picture:
    """Samples with their meaning. Never changes: the samples are a read-only array.

    Parameters
    ----------
    samples : array, shape (height, width) for gray, (height, width, n) otherwise
        uint8 for up to 8 bits, uint16 for 9 to 16, float32 or float64 for float pictures.
    bits : int or None
        Bit depth, 1 to 16; None for a float picture, whose full scale is 1.0.
    colour : "gray", "rgb" or "planes"
    origin : str
        Where the picture came from, for messages.
    notes : tuple of str
        Notes for the user on changes by reading.
    alpha : array, shape (height, width), or None
        Opacity stored with the samples; never processed, scored or written.
    light : "linear", "encoded" or "unknown"
        Relation of the samples to light, as the file or the last step states it.

    Raises
    ------
    PictureError
        If shape, type, range and bit depth do not fit together, or a sample is not finite.
    """

    samples: Samples
    bits: int | None
    colour: Colour
    origin: str = "array"
    notes: tuple[str, ...] = ()
    alpha: Samples | None = field(default=None, repr=False)
    light: Light = "unknown"

    def __post_init__(self) -> None:
        _check(self)
        object.__setattr__(self, "samples", _unchanging(self.samples))
        if self.alpha is not None:
            object.__setattr__(self, "alpha", _unchanging(self.alpha))

    def __reduce__(self) -> tuple[Any, ...]:
        facts = self.bits, self.colour, self.origin, self.notes, self.alpha, self.light
        return Picture, (self.samples, *facts)

    def __repr__(self) -> str:
        return f"<Picture {self.describe()}, from {self.origin}>"

    def _repr_png_(self) -> bytes:
        from magnetite.core.picture.display import as_png

        planes = self.colour == "planes"  # of which the middle one is shown
        samples = self.samples[..., self.channels // 2] if planes else self.samples
        return as_png(samples, self.full_scale)

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> Samples:
        return np.array(self.samples, dtype=dtype) if copy else np.asarray(self.samples, dtype)

    @cached_property
    def frame(self) -> Frame:
        """Facts without the samples."""
        size = self.height, self.width, self.channels
        return Frame(*size, self.colour, self.bits, self.light)

    @property
    def height(self) -> int:
        return int(self.samples.shape[0])

    @property
    def width(self) -> int:
        return int(self.samples.shape[1])

    @property
    def channels(self) -> int:
        return 1 if self.samples.ndim == 2 else int(self.samples.shape[2])

    @property
    def full_scale(self) -> float:
        """Largest digital number: 2^bits - 1, or 1.0 for a float picture."""
        return 1.0 if self.bits is None else float(2**self.bits - 1)

    @property
    def digital_full_scale(self) -> float | None:
        """Full scale in dn, or None where dn means nothing (float pictures)."""
        return None if self.bits is None else self.full_scale

    @property
    def sample_bits(self) -> int:
        """Bits of one sample as it is stored in a source file."""
        return self.bits or 8 * int(self.samples.dtype.itemsize)

    @property
    def amplitude_unit(self) -> str:
        """Unit of this picture's own sample values: `dn`, or `fs` for float."""
        return "fs" if self.bits is None else "dn"

    @property
    def amplitude_words(self) -> str:
        """The same among other units: `dn of 16 bits`."""
        return "of full scale" if self.bits is None else f"dn of {self.bits} bits"

    def describe(self) -> str:
        """Size, colour and depth in words: `640x480 rgb, 8 bits`."""
        return self.frame.describe()

    def part(self, rows: slice) -> Picture:
        """Some rows as a picture of their own; the picture itself for all of them."""
        if rows.indices(self.height) == (0, self.height, 1):
            return self
        samples = self.samples[rows]
        return Picture(samples, self.bits, self.colour, self.origin, light=self.light)

    def pixels(self) -> Pixels:
        """Samples on full-scale units, as a new array.

        float32 for bit depths (2^-24 is far below half a digital number of 16 bits) and for
        float32 pictures; float64 pictures stay float64.
        """
        if self.bits is None:
            return self.samples.copy()
        return on_full_scale(self.samples, self.full_scale)

    def on_scale(self, peak: float) -> Float64:
        """Samples as float64 with full scale mapped to `peak`; exact where it is theirs."""
        samples = self.samples.astype(np.float64)
        return samples if peak == self.full_scale else samples * (peak / self.full_scale)

    def with_pixels(self, pixels: Pixels) -> tuple[Picture, Clipped]:
        """A picture like this one that stores `pixels` (full-scale units), and the samples clipped.

        Integer depths round to the nearest digital number and clip at both ends, never wrap.
        Float pictures keep every value; samples outside 0..1 are counted all the same.
        """
        if self.bits is None:
            samples, clipped = pixels.astype(self.samples.dtype), beyond(pixels)
        else:
            samples, clipped = stored(pixels, self.full_scale, self.samples.dtype)
        made = Picture(frozen(samples), self.bits, self.colour, self.origin, light=self.light)
        return made, clipped

    def at_depth(self, bits: int) -> Picture:
        """The picture at a bit depth, full scale on full scale, rounded where that is coarser."""
        dtype = np.uint8 if bits <= 8 else np.uint16
        blank = frozen(np.zeros(self.samples.shape, dtype))
        return Picture(blank, bits, self.colour, self.origin).with_pixels(self.pixels())[0]

    def luma(self) -> Picture:
        """Gray picture of an RGB picture's luma (BT.601), rounded to the same bit depth."""
        if self.colour == "gray":
            return self
        plane = Picture(self.samples[..., 0], self.bits, "gray", self.origin, light=self.light)
        return plane.with_pixels(luma(self.pixels()))[0]

    def exact_luma(self) -> Picture:
        """Float gray picture of the luma (BT.601), not rounded; of a gray picture its samples."""
        exact = frozen(luma(self.on_scale(1.0)))
        return Picture(exact, None, "gray", self.origin, light=self.light)

    def digest(self) -> bytes:
        """SHA-256 of shape, depth and samples, without the origin."""
        samples = np.ascontiguousarray(self.samples)
        content = hashlib.sha256(digest_header(samples.shape, self.bits, samples.dtype))
        content.update(samples.reshape(-1).view(np.uint8).data)
        return content.digest()

    def same_samples(self, other: Picture) -> bool:
        """Whether both store exactly the same samples at the same depth."""
        return self.bits == other.bits and np.array_equal(self.samples, other.samples)


def digest_header(shape: tuple[int, ...], bits: int | None, dtype: Any) -> bytes:
    """Prefix of a picture's digest, before the samples."""
    return f"{shape} {bits} {dtype.str}".encode()


def frozen(samples: Samples) -> Samples:
    """Make an unshared array read-only; a picture takes it without a copy."""
    samples.flags.writeable = False
    return samples


def _unchanging(samples: Samples) -> Samples:
    """The array itself if it can no longer be changed through any name; a copy otherwise."""
    behind: Any = samples
    while isinstance(behind, np.ndarray):
        if behind.flags.writeable:
            return frozen(samples.copy())
        behind = behind.base
    return samples if behind is None else frozen(samples.copy())


def luma(pixels: Pixels) -> Pixels:
    """Luma of RGB samples, shape (height, width, 3) to (height, width); gray passes through.

    ITU-R BT.601: 0.299 R + 0.587 G + 0.114 B on the gamma-encoded samples.

    Raises
    ------
    PictureError
        If the array has neither one nor three channels.
    """
    if pixels.ndim == 2:
        return pixels
    if pixels.shape[2] != 3:
        raise PictureError(f"luma needs gray or RGB samples; these have {pixels.shape[2]} planes")
    return pixels @ np.asarray(LUMA_WEIGHTS, dtype=pixels.dtype)


def as_picture(
    source: Picture | Samples, origin: str = "array", *, any_range: bool = False
) -> Picture:
    """Take a picture as it is, or an array by its type.

    bool is 1 bit, uint8 8 bits, uint16 16 bits, floating point a float picture with full
    scale 1.0; two axes are gray, a last axis of 1 gray, of 3 RGB, of any other length planes.
    One axis is a row of samples; of four, the last two are joined into planes. `notes` say so.

    Raises
    ------
    PictureError
        For any other type or number of axes, masked samples, and floats that plainly are not on
        0..1, unless `any_range` says that they are meant.
    """
    if isinstance(source, Picture):
        return source
    if np.ma.is_masked(source):
        raise PictureError(
            "masked samples have no value: fill them; metrics take the mask apart, as mask="
        )
    array, colour, notes = _arranged(np.asarray(source))
    array = array.astype(array.dtype.newbyteorder("="), copy=False)
    if array.dtype == bool:
        return Picture(array.astype(np.uint8), 1, colour, origin, notes)
    if array.dtype in (np.uint8, np.uint16):
        return Picture(array, 8 * array.dtype.itemsize, colour, origin, notes)
    if np.issubdtype(array.dtype, np.floating):
        if not any_range and (largest := beyond_range(array)):
            raise PictureError(
                f"float samples reach {largest:g}, and their full scale is taken as 1.0: divide "
                "them by theirs"
            )
        wide = np.float64 if array.dtype.itemsize >= 8 else np.float32
        return Picture(array.astype(wide, copy=False), None, colour, origin, notes)
    raise PictureError(
        f"samples of type {array.dtype} have no known full scale: "
        "give uint8, uint16, or float on 0..1"
    )


def beyond_range(samples: Samples) -> float | None:
    """Largest size of float samples, any shape, if that is more than any on 0..1 would have."""
    with np.errstate(invalid="ignore"):
        largest = float(np.nanmax(np.abs(samples), initial=0.0))
    return largest if math.isfinite(largest) and largest > LARGEST_FLOAT else None


def _arranged(array: Samples) -> tuple[Samples, Colour, tuple[str, ...]]:
    """An array's samples as (h, w) or (h, w, n), their colour, and notes on changes."""
    if array.ndim == 1:
        return array[np.newaxis], "gray", ("one axis: read as a row of samples",)
    if array.ndim == 4:
        across = "x".join(map(str, array.shape[2:]))
        joined = array.reshape(*array.shape[:2], -1)
        note = f"four axes: the last two, {across}, read as planes (code across: stack={across})"
        return joined, "planes", (note,)
    if array.ndim == 3 and array.shape[2] == 1:
        array = array[..., 0]
    if array.ndim not in (2, 3):
        raise PictureError(
            f"an array of shape {array.shape} is not a picture: give (h, w) or (h, w, n)"
        )
    return array, "gray" if array.ndim == 2 else "rgb" if array.shape[2] == 3 else "planes", ()


def _check(picture: Picture) -> None:
    samples, bits = picture.samples, picture.bits
    axes = 2 if picture.colour == "gray" else 3
    if samples.ndim != axes or (picture.colour == "rgb" and samples.shape[2] != 3):
        raise PictureError(f"samples of shape {samples.shape} are not a {picture.colour} picture")
    if samples.size == 0:
        raise PictureError(f"{picture.origin}: the picture is empty ({samples.shape})")
    if bits is None:
        if samples.dtype not in (np.float32, np.float64):
            raise PictureError(f"a float picture holds float32 or float64, not {samples.dtype}")
        _check_finite(picture)
        return
    if not 1 <= bits <= 16:
        raise PictureError(f"a bit depth of {bits} is outside 1 to 16")
    if samples.dtype != (np.uint8 if bits <= 8 else np.uint16):
        raise PictureError(f"{bits} bits are stored in uint8 or uint16, not {samples.dtype}")
    if bits not in (8, 16) and int(samples.max()) > picture.full_scale:
        raise PictureError(
            f"{picture.origin}: a sample of {int(samples.max())} does not fit {bits} bits "
            f"(0 to {picture.full_scale:g})"
        )


def _check_finite(picture: Picture) -> None:
    finite = np.isfinite(picture.samples)
    if finite.all():
        return
    row, column = (int(i) for i in np.argwhere(~finite)[0][:2])
    raise PictureError(
        f"{picture.origin}: {counted(int((~finite).sum()), 'sample')} NaN or infinite "
        f"(the first at row {row}, column {column}); replace them before use"
    )
