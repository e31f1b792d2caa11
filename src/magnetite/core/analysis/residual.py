"""The residual of a restoration: noise, or the picture's own structure?"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Literal, NamedTuple

import numpy as np

from magnetite.core.arrays import Bools, Indices, Mask, Pixels
from magnetite.core.compute.filters import convolve_separable
from magnetite.core.errors import PictureError
from magnetite.core.gauges.noise_blocks import ORDERS, NoiseEstimate, sampled_blocks
from magnetite.core.gauges.noise_level import impulse_share
from magnetite.core.gauges.ringing import ringing
from magnetite.core.metrics.residual import residual_structure
from magnetite.core.picture import Picture, luma
from magnetite.core.picture.clipping import clear_of_ends
from magnetite.core.quantities import significant

#: Smallest sides that can be judged, px.
SMALLEST = 24
#: From these on a residual is more than white noise; up to the last one it spares edges, where much
#: of the noise is left.
STRUCTURED, EDGED, SPARED = 0.1, 0.15, -0.5
#: Noise left and structure lost are stated from these shares of the noise on: of its sd, and of
#: its power.
_LEFT, _LOST = 0.2, 0.05
#: Standard errors by which textured blocks must differ from flat ones.
_ERRORS = 2.0
#: Rms slope of the restored picture over that of the picture from which on it was sharpened.
_SHARPENED = 1.02
#: Window of a local range, px, and the share of it from which on overshoots are more than detail.
_RANGE, _OVERSHOOT = 9, 0.2
#: Share of impulses from which on the power of the noise is not that of white noise.
_IMPULSES = 0.02
#: Share of the positions where noise is not clipped that suffices.
_LEAST_CLEAR = 0.1
#: Share of the mean below which strengths count as alike.
_FLOOR = 0.05
#: Larger pictures are judged by as many tiles of this side as a square of the other, px.
_TILE, _JUDGED = 256, 1024

#: Cosine coefficients that are not a block's mean; those that sort blocks by texture; others that
#: are no shading, so that sorting noise by noise biases nothing.
_VARYING = ORDERS > 0
_TEXTURE = np.isin(ORDERS, (2, 4))
_RIPPLED = (ORDERS > 2) & ~_TEXTURE

ResidualFinding = Literal[
    "none",
    "sharpened",
    "noise left",
    "structure lost",
    "impulses",
    "unclear",
    "structured",
    "white",
]


class Sharpening(NamedTuple):
    """Figures of a sharpened picture, in its own unit."""

    #: Sd of the noise of the restored picture.
    noise_after: float
    #: The gauge of that name, of both pictures.
    ringing_before: float
    ringing_after: float
    #: Rms of the restored picture beyond the range of the picture within 9x9, and that range.
    overshoot: float
    local_range: float

    def words(self, whole: Residual) -> str:
        """One sentence."""
        unit = whole.unit
        over = self.overshoot > _OVERSHOOT * self.local_range
        return (
            f"detail was added: slopes are {whole.steeper:.2f} times as steep, noise went from "
            f"{significant(whole.noise.sd)} to {significant(self.noise_after)} {unit}, ringing "
            f"near edges from {significant(self.ringing_before)} to "
            f"{significant(self.ringing_after)} {unit}, and overshoots of "
            f"{significant(self.overshoot)} {unit} rms leave the local range"
            + ("; it was over-sharpened" if over else "")
        )


@dataclass(frozen=True)
class Residual:
    """Figures of picture minus restored picture, on luma, in the picture's own unit."""

    #: Of the residual.
    sd: float
    #: White noise of the picture, with its 95 % interval.
    noise: NoiseEstimate
    #: Noise that the restored picture still has where it is least textured.
    left: float
    #: Rms of the structure in the residual, by its power beyond that of the noise.
    lost: float
    #: Rms of the residual's autocorrelation within 2 px.
    structure: float
    #: Correlation of the residual's local strength with that of the restored picture's slopes.
    edges: float
    finding: ResidualFinding
    unit: str = "dn"
    #: Rms slope of the restored picture over that of the picture.
    steeper: float = 1.0
    #: Figures of the added detail.
    sharpened: Sharpening | None = None
    #: Whether noise is clipped at black or full scale nearly everywhere.
    clipped: bool = False
    #: Share of the picture's samples that are impulses, where that prevents a verdict.
    impulses: float = 0.0

    def figures(self) -> list[tuple[str, float, str]]:
        """Name, value and unit of each."""
        each = [
            ("sd", self.sd, self.unit),
            ("noise", self.noise.sd, self.unit),
            ("noise_low", self.noise.low, self.unit),
            ("noise_high", self.noise.high, self.unit),
            ("left", self.left, self.unit),
            ("lost", self.lost, self.unit),
            ("structure", self.structure, ""),
            ("edges", self.edges, ""),
            ("steeper", self.steeper, ""),
        ]
        if self.sharpened is not None:
            each += [(name, value, self.unit) for name, value in self.sharpened._asdict().items()]
        return each

    @property
    def verdict(self) -> str:
        """One sentence on the finding."""
        if self.clipped and self.finding in ("structure lost", "structured"):
            return f"{self._verdict}; but noise that is clipped, as here, looks the same"
        return self._verdict

    @property
    def _verdict(self) -> str:
        unit, noise = self.unit, self.noise
        left, lost = significant(self.left), significant(self.lost)
        return {
            "none": "the residual is zero: nothing was changed",
            "sharpened": "" if self.sharpened is None else self.sharpened.words(self),
            "noise left": f"noise is left: about {left} of {significant(noise.sd)} {unit}",
            "structure lost": f"structure was lost: about {lost} {unit} rms, beyond noise",
            "impulses": f"{self.impulses:.1%} of the picture's samples are impulses: their power "
            "and that of lost structure cannot be distinguished",
            "structured": "the residual has structure: it is not white noise alone",
            "white": "the residual looks like white noise"
            + ", but weaker at edges: much of the noise is left there" * (self.edges <= SPARED),
            "unclear": "undecided whether noise is left or structure was lost: the noise "
            f"of the picture lies between {significant(noise.low)} and {significant(noise.high)} "
            f"{unit}",
        }[self.finding]


def residual(before: Picture, after: Picture) -> Residual | None:
    """Judge the difference of a picture and its restoration; None where it cannot be judged.

    That is for pictures below 24x24 and for planes without luma. Blocks and positions where noise
    is clipped at black or full scale are left out, unless they are nearly all. Pictures above
    1024x1024 are judged by 16 tiles of 256x256, spread evenly.

    First whether the picture was sharpened; then whether noise is left, from the residual's power
    in the quarter of the blocks that is least textured, where noise alone can be removed; then
    whether structure was lost: more power than the noise has, or more in textured blocks than in
    flat ones. Where the noise is not known well enough for that, or 2 % of the samples are
    impulses, nothing is claimed.
    """
    if before.colour == "planes" or min(before.height, before.width) < SMALLEST:
        return None
    tiles = [_tiles(picture.pixels()) for picture in (before, after)]
    pixels = _joined(tiles[0]), _joined(tiles[1])
    clear, clipped = clear_positions(*pixels)
    first, second = (luma(p).astype(np.float64) for p in pixels)
    difference = first - second
    noise, left, lost, finding = _powers(first, second)
    found = Residual(
        float(difference.std()), noise, left, lost,
        residual_structure(*pixels), _edges(difference, second, clear),
        finding, _unit(before), clipped=clipped,
    )  # fmt: skip
    planes: list[list[Pixels]] = [[luma(t).astype(np.float64) for t in own] for own in tiles]
    found = _with_impulses(_refined(found, *planes), tiles[0])
    return _scaled(found, before.full_scale)


def clear_positions(before: Pixels, after: Pixels) -> tuple[Mask, bool]:
    """Positions that the figures are over, None for all, and whether nearly all are clipped.

    Where nearly all are clipped, all count.
    """
    clear = clear_of_ends(before, after, 1.0)
    clipped = clear is not None and bool(clear.mean() < _LEAST_CLEAR)
    return None if clipped else clear, clipped


def _unit(picture: Picture) -> str:
    """The picture's own unit, with a depth that is not the 8 bits of scores; of colours, luma."""
    deep = picture.bits not in (None, 8)
    unit = f"dn of {picture.bits} bits" if deep else picture.amplitude_unit
    return unit if picture.channels == 1 else f"{unit} of luma"


def _refined(found: Residual, before: list[Pixels], after: list[Pixels]) -> Residual:
    """The finding by slopes and the whole residual, where the blocks do not decide."""
    if found.sd == 0:
        return replace(found, finding="none")
    found = replace(found, steeper=_steepness(after) / (_steepness(before) or 1.0))
    if found.steeper > _SHARPENED:
        return replace(found, finding="sharpened", sharpened=_sharpening(before, after))
    if found.finding == "white" and found.structure > STRUCTURED:
        return replace(found, finding="structured")
    return found


def _with_impulses(found: Residual, before: list[Pixels]) -> Residual:
    """Lost structure is not claimed where impulses have more power than white noise."""
    if found.finding != "structure lost":
        return found
    share = float(np.mean([impulse_share(tile) for tile in before]))
    return found if share < _IMPULSES else replace(found, finding="impulses", impulses=share)


def _sharpening(before: list[Pixels], after: list[Pixels]) -> Sharpening:
    """Means over the tiles, whose borders would be edges if they were joined."""
    from scipy.ndimage import maximum_filter, minimum_filter

    power, span = [], []
    for one, two in zip(before, after, strict=True):
        low, high = minimum_filter(one, _RANGE), maximum_filter(one, _RANGE)
        power.append(float(np.mean(np.maximum(two - high, low - two).clip(0) ** 2)))
        span.append(float((high - low).mean()))
    return Sharpening(
        sampled_blocks(_joined(after)).noise().sd,
        float(np.mean([ringing(tile) for tile in before])),
        float(np.mean([ringing(tile) for tile in after])),
        math.sqrt(float(np.mean(power))), float(np.mean(span)),
    )  # fmt: skip


def _scaled(found: Residual, scale: float) -> Residual:
    return replace(
        found, sd=found.sd * scale, noise=NoiseEstimate(*(scale * x for x in found.noise)),
        left=found.left * scale, lost=found.lost * scale,
        sharpened=None if found.sharpened is None
        else Sharpening(*(scale * x for x in found.sharpened)),
    )  # fmt: skip


def _powers(before: Pixels, after: Pixels) -> tuple[NoiseEstimate, float, float, ResidualFinding]:
    """Noise of the picture, noise left, structure lost, and the finding by their intervals."""
    try:
        blocks = sampled_blocks(before, after, before - after)
    except PictureError:
        return NoiseEstimate(0.0, 0.0, math.inf), 0.0, 0.0, "unclear"
    noise = blocks.noise()
    texture = (blocks.planes[1][:, _TEXTURE] ** 2).mean(axis=1)
    order, quarter = np.argsort(texture, kind="stable"), max(4, texture.size // 4)

    def power(coefficients: Bools, which: Indices) -> tuple[float, float]:
        each = (blocks.planes[2][which][:, coefficients] ** 2).mean(axis=1)
        return float(each.mean()), float(each.std()) / math.sqrt(blocks.independent(which))

    flat, flat_error = power(_RIPPLED, order[:quarter])
    rough, rough_error = power(_RIPPLED, order[-quarter:])
    whole, whole_error = power(_VARYING, order)
    left = max(0.0, noise.sd - math.sqrt(flat))
    extra = max(whole, rough) - (noise.sd - left) ** 2
    lost = math.sqrt(max(0.0, extra))
    some_left, some_lost = left > _LEFT * noise.sd, extra > _LOST * noise.sd**2
    follows = rough - flat > _ERRORS * math.hypot(flat_error, rough_error)
    stronger = max(whole - _ERRORS * whole_error, rough - _ERRORS * rough_error) > noise.high**2
    if some_left and noise.low**2 > flat + _ERRORS * flat_error and whole <= noise.sd**2:
        return noise, left, lost, "noise left"
    if stronger or (follows and some_lost):
        return noise, left, lost, "structure lost"
    if some_left or some_lost or not noise.distinct:
        return noise, left, lost, "unclear"
    return noise, left, lost, "white"


def _tiles(pixels: Pixels) -> list[Pixels]:
    """A picture, or 16 tiles of it."""
    height, width = pixels.shape[:2]
    if height * width <= _JUDGED**2 or min(height, width) < _TILE:
        return [pixels]
    rows, columns = (
        np.linspace(0, side - _TILE, _JUDGED // _TILE).round().astype(int)
        for side in (height, width)
    )
    return [pixels[y : y + _TILE, x : x + _TILE] for y in rows for x in columns]


def _joined(tiles: list[Pixels]) -> Pixels:
    """Tiles as one picture."""
    if len(tiles) == 1:
        return tiles[0]
    count = _JUDGED // _TILE
    rows = [np.concatenate(tiles[k : k + count], axis=1) for k in range(0, len(tiles), count)]
    return np.concatenate(rows)


def _steepness(tiles: list[Pixels]) -> float:
    """Rms of the steps between neighbours."""
    squares = [float(np.mean(np.diff(t, axis=a) ** 2)) for t in tiles for a in (0, 1)]
    return math.sqrt(sum(squares) / len(tiles))


def _edges(difference: Pixels, restored: Pixels, clear: Mask) -> float:
    """Correlation of the logarithms of both local strengths, at positions that are clear.

    A restoration that changes more at edges gives a positive number, one that spares them a
    negative one.
    """
    strengths = local_strengths(difference, restored)
    if clear is not None:
        strengths = strengths[0][clear], strengths[1][clear]
    one, two = (np.log(x + _FLOOR * x.mean() + 1e-30) for x in strengths)
    if one.std() < 1e-9 or two.std() < 1e-9:
        return 0.0
    return float(np.corrcoef(one.ravel(), two.ravel())[0, 1])


def local_strengths(difference: Pixels, restored: Pixels) -> tuple[Pixels, Pixels]:
    """Mean squares in windows of 5x5: of a difference, and of a picture's slopes."""
    line = np.full(5, 0.2)
    slopes = np.zeros_like(restored)
    slopes[:, 1:] += np.diff(restored, axis=1) ** 2
    slopes[1:] += np.diff(restored, axis=0) ** 2
    return convolve_separable(difference**2, line), convolve_separable(slopes, line)
