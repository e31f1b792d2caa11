"""Noise of a picture separated from its texture, by blocks of the cosine transform."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from magnetite.core.arrays import Float64, Indices, Pixels
from magnetite.core.compute.basis import cosines
from magnetite.core.compute.diagonals import sizes_within
from magnetite.core.errors import PictureError
from magnetite.core.methods.catalogue import ColourPolicy, gauge
from magnetite.core.picture.clipping import at_ends
from magnetite.core.quantities import significant
from magnetite.core.solve.bisection import zero

#: Side of the blocks, px; the least distance of two, and the most that are looked at.
_SIDE, _DISTANCE, _MOST = 8, 5, 8_000
#: Fewest blocks for an estimate, and groups of the less textured half of them.
_FEWEST, _GROUPS = 16, 16
#: A block whose texture exceeds this multiple of its group's median belongs to no group.
_OUTLYING = 6.0
#: Share of the blocks, of those that are not clipped as a whole, that are free of clipped samples
#: from which on the others are left out.
_LEAST_CLEAR = 0.1
#: Leakage differs from block to block by about this share of it: the model's own error.
_MODEL_ERROR = 0.2
#: Noise is distinct from texture where the lower end of the interval is this share of the estimate.
_DISTINCT = 0.7

#: Differences up to this share of full scale are rounding errors.
_ROUNDING_ERROR = 1e-6

_ROW, _COLUMN = np.indices((_SIDE, _SIDE))
#: Sum of both frequencies of each coefficient of a block.
ORDERS = np.asarray(_ROW + _COLUMN)
#: The diagonal quarter of a block, where noise is sought, and two sets of lower frequencies,
#: where texture is: two, so that one sorts the blocks and the other measures them.
_HIGH = (_ROW >= _SIDE // 2) & (_COLUMN >= _SIDE // 2)
_LOW = (ORDERS >= 2) & (ORDERS <= _SIDE // 2 + 1)
_LOW_SETS = tuple(_LOW & (odd == ORDERS % 2) for odd in (0, 1))


def _leakages() -> Float64:
    """Power at high over power at low frequencies, of textures whose power falls as f^-g.

    g from 4 to 1: natural pictures have about 2 (Field, J. Opt. Soc. Am. A 4(12), 1987,
    doi:10.1364/JOSAA.4.002379); and 0, for blurred ones.
    """
    squared = np.maximum(_ROW**2 + _COLUMN**2, 1.0)
    powers = (squared ** (-g / 2) for g in np.linspace(4, 1, 31))
    return np.array([0.0, *(power[_HIGH].mean() / power[_LOW].mean() for power in powers)])


_LEAKAGES = _leakages()


class NoiseEstimate(NamedTuple):
    """Sd of white noise, with the ends of its 95 % interval, in the array's unit."""

    sd: float
    low: float
    high: float

    @property
    def distinct(self) -> bool:
        """Whether the noise is distinct from texture; if not, the upper end is a bound."""
        return self.low >= _DISTINCT * self.sd

    def words(self, scale: float, unit: str) -> str:
        """The interval in a unit, and a warning where noise and texture are indistinguishable."""
        if math.isinf(self.high):
            return "the picture is too small for an interval"
        ends = f"{significant(self.low * scale)} to {significant(self.high * scale)} {unit} (95 %)"
        if self.distinct:
            return ends
        return f"{ends}: noise and texture cannot be distinguished here"


def noise_estimate(pixels: Pixels, peak: float = 1.0) -> NoiseEstimate:
    """Sd of white noise from the least textured quarter of the blocks of one plane.

    Blocks of 8x8 samples without clipped ones are sorted by their texture, the mean square T of
    cosine coefficients at low frequencies. White noise has the same power at all frequencies, so
    that the mean square H of the diagonal quarter is `s² + b (T - s²)`, b the share of a texture's
    power that reaches high frequencies. b is known from how H grows with T from group to group of
    blocks; where T does not differ, it is that of a spectrum `f^-g`, g from 1 to 4, or 0. Sorting
    by one half of the low frequencies and measuring T by the other keeps the sorting from
    biasing T. Where most of the finest diagonal coefficients are 0, as in graphics and pictures of
    few levels, the estimate is 0; those of clipped samples, which show no noise, do not count. The
    interval spans the b that remain possible, and the sampling
    error of H.

    Parameters
    ----------
    pixels : array, shape (h, w)
    peak : float
        Full scale of the array.

    Returns
    -------
    NoiseEstimate
        In the array's unit. Of up to 8,000 blocks, so that time does not grow with the size.

    Raises
    ------
    PictureError
        If the plane has fewer than 16 blocks, 5 px apart.

    Notes
    -----
    After Ponomarenko, Lukin, Zriakhov, Kaarna and Astola, CADSM 2007,
    doi:10.1109/CADSM.2007.4297510 (blocks of least texture), with a correction for texture of
    our own.
    """
    blocks = sampled_blocks(pixels, peak=peak)
    plane = np.asarray(pixels)
    changes = sizes_within(plane, at_ends(plane, peak))
    if 2 * np.count_nonzero(changes > _ROUNDING_ERROR * peak) < changes.size:
        return NoiseEstimate(0.0, 0.0, 0.0)
    return blocks.noise()


class _Side(NamedTuple):
    """H of the least textured quarter of the blocks, its sd, T there, b and its error."""

    high: float
    sd: float
    texture: float
    leakage: float
    spread: float
    #: The blocks.
    quarter: Indices


class SampledBlocks(NamedTuple):
    """Cosine coefficients of blocks at the same positions of several planes."""

    #: Of each plane, shape (blocks, 8, 8).
    planes: tuple[Float64, ...]
    #: Full scale.
    peak: float
    #: Rows and columns of the grid of all blocks, and the positions of these in it, row by row.
    grid: tuple[int, int]
    positions: Indices
    #: Distance of neighbours in the grid, px: they may overlap.
    distance: int

    def independent(self, *groups: Indices) -> float:
        """Number of blocks without overlap whose mean power at high frequencies is as certain.

        As certain as the mean over the groups, in each of which a block counts once.
        """
        weights = np.zeros(self.grid)
        for group in groups:
            weights.flat[self.positions[group]] += 1
        common = _common_power(self.distance)
        adjacent = np.vdot(weights[1:], weights[:-1]) + np.vdot(weights[:, 1:], weights[:, :-1])
        down, up = weights[1:], weights[:-1]
        diagonal = np.vdot(down[:, 1:], up[:, :-1]) + np.vdot(up[:, 1:], down[:, :-1])
        squares = np.vdot(weights, weights) + 2 * (adjacent * common + diagonal * common**2)
        return float(weights.sum() ** 2 / squares)

    def noise(self, plane: int = 0) -> NoiseEstimate:
        """`noise_estimate` of one of the planes."""
        power = self.planes[plane] ** 2
        one, two = (self._side(power, first) for first in (0, 1))
        high, texture, leakage, spread = (
            (getattr(one, name) + getattr(two, name)) / 2
            for name in ("high", "texture", "leakage", "spread")
        )
        if high < _ROUNDING_ERROR**2 * self.peak**2:
            return NoiseEstimate(0.0, 0.0, 0.0)
        sd = math.sqrt((one.sd**2 + two.sd**2) / 2)
        error = sd / math.sqrt(self.independent(one.quarter, two.quarter))
        weights = _weights(leakage, spread)
        squares = high - _LEAKAGES * max(0.0, texture - high) / (1 - _LEAKAGES)
        low, top = (_quantile(share, squares, weights, error) for share in (0.025, 0.975))
        mean = float(weights @ squares.clip(0))
        return NoiseEstimate(*(math.sqrt(max(0.0, square)) for square in (mean, low, top)))

    def _side(self, power: Float64, first: int) -> _Side:
        """Blocks sorted by one set of low frequencies and measured by the other."""
        high = power[:, _HIGH].mean(axis=1)
        sorting, texture = (power[:, _LOW_SETS[k]].mean(axis=1) for k in (first, 1 - first))
        order = np.argsort(sorting, kind="stable")
        half = order[: max(_FEWEST, order.size // 2)]
        groups = [_without_outliers(g, texture)
                  for g in np.array_split(half, min(_GROUPS, half.size // 4))]  # fmt: skip
        h, h_error = np.array([_mean(high[g], self.independent(g)) for g in groups]).T
        t, t_error = np.array([_mean(texture[g], g.size) for g in groups]).T
        quarter = _without_outliers(order[: max(_FEWEST // 2, order.size // 4)], texture)
        return _Side(
            float(high[quarter].mean()),
            float(high[quarter].std()),
            float(texture[quarter].mean()),
            *_slope(t, t_error, h, h_error),
            quarter,
        )


def _quantile(share: float, means: Float64, weights: Float64, error: float) -> float:
    """Quantile of a mixture of normal distributions of one sd."""
    parts = list(zip(weights.tolist(), means.tolist(), strict=True))
    root, reach = math.sqrt(2) * error, 9 * error

    def above(value: float) -> float:
        return float(sum(w * math.erfc((mean - value) / root) for w, mean in parts)) / 2 - share

    return zero(above, float(means.min()) - reach, float(means.max()) + reach, 1e-6 * error)


def sampled_blocks(*planes: Pixels, peak: float = 1.0) -> SampledBlocks:
    """Up to 8,000 blocks of 8x8, spread evenly, in which the first plane is not clipped.

    Clipped blocks are kept where fewer than a tenth is free of clipped samples; those that are
    clipped as a whole only where there are no others.

    Raises
    ------
    PictureError
        If there are fewer than 16 blocks, 5 px apart.
    """
    height, width = planes[0].shape
    rows, columns = max(0, height - _SIDE), max(0, width - _SIDE)
    distance = max(_DISTANCE, math.ceil(math.sqrt(rows * columns / _MOST)))
    distance += 1 - distance % 2  # odd: the grid of a block codec comes at every phase
    if (rows // distance + 1) * (columns // distance + 1) < _FEWEST or min(height, width) < _SIDE:
        raise PictureError(
            f"noise-blocks needs {_FEWEST} blocks of {_SIDE}x{_SIDE} px, {_DISTANCE} px apart; "
            f"{width}x{height} px are too few"
        )

    def windows(plane: Pixels) -> Pixels:
        every = np.lib.stride_tricks.sliding_window_view(plane, (_SIDE, _SIDE))
        return np.asarray(every[::distance, ::distance].reshape(-1, _SIDE, _SIDE))

    own = [windows(np.asarray(plane)) for plane in planes]
    within = ~at_ends(own[0], peak)
    clear, alive = within.all(axis=(1, 2)), within.any(axis=(1, 2))
    if clear.sum() < max(_FEWEST, _LEAST_CLEAR * alive.sum()):
        clear = alive if alive.sum() >= _FEWEST else np.ones_like(alive)
    basis = cosines(_SIDE)
    return SampledBlocks(
        tuple(basis @ blocks[clear].astype(np.float64) @ basis.T for blocks in own),
        peak, (rows // distance + 1, columns // distance + 1), np.flatnonzero(clear), distance,
    )  # fmt: skip


def _common_power(distance: int) -> float:
    """Correlation of the power of two blocks' high frequencies, of white noise, by their overlap.

    Of blocks that are apart along one axis; its square where they are along both. The mean of
    squared covariances of their coefficients, after Isserlis.
    """
    high = cosines(_SIDE)[_SIDE // 2 :]
    covariance = high @ np.eye(_SIDE, k=-distance) @ high.T
    return float((covariance**2).sum()) / len(high)


def _without_outliers(group: Indices, texture: Float64) -> Indices:
    return np.asarray(group[texture[group] <= _OUTLYING * np.median(texture[group])])


def _mean(values: Float64, independent: float) -> tuple[float, float]:
    """Mean and its standard error, by the number of independent values."""
    return float(values.mean()), float(values.std() / math.sqrt(max(2.0, independent)))


def _slope(t: Float64, t_error: Float64, h: Float64, h_error: Float64) -> tuple[float, float]:
    """Weighted slope of h over t and its standard error.

    The scatter that t's own error causes is subtracted. Where t varies by no more than its error,
    the slope is unknown and its error infinite.
    """
    if h.max() == 0:
        return 0.0, math.inf
    weight = 1 / np.maximum(h_error, 1e-6 * h.mean()) ** 2
    weight /= weight.sum()
    across, up = t - (weight * t).sum(), h - (weight * h).sum()
    varies = float((weight * (across**2 - t_error**2)).sum())
    if varies <= 0:
        return 0.0, math.inf
    slope = float((weight * across * up).sum()) / varies
    scatter = np.maximum((up - slope * across) ** 2, h_error**2)
    return slope, math.sqrt(float(((weight * across) ** 2 * scatter).sum())) / varies


def _weights(leakage: float, spread: float) -> Float64:
    """How probable each of the possible leakages is, by one that was measured."""
    if math.isinf(spread):
        return np.full(len(_LEAKAGES), 1 / len(_LEAKAGES))
    apart = (_LEAKAGES - leakage) ** 2
    variance = spread**2 + (_MODEL_ERROR * leakage) ** 2 + np.finfo(float).tiny
    weights = np.exp(-(apart - apart.min()) / (2 * variance))
    return np.asarray(weights / weights.sum())


@gauge(
    "noise-blocks",
    summary="Noise sd by the least textured blocks, texture separated by its spectrum.",
    colour=ColourPolicy.EACH,
    source="after Ponomarenko, Lukin, Zriakhov, Kaarna and Astola, CADSM 2007, "
    "doi:10.1109/CADSM.2007.4297510",
    unit="dn",
    values="0 and up",
    smallest="23x23",
)
def noise_blocks(pixels: Pixels, peak: float = 1.0) -> float:
    """The sd of `noise_estimate`.

    Raises `PictureError` where the picture has fewer than 16 blocks of 8x8, 5 px apart.
    """
    return noise_estimate(pixels, peak).sd
