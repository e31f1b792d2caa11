"""Fixed-pattern noise from flat fields: the pattern common to frames of one level."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from magnetite.core.arrays import Float32, Float64
from magnetite.core.calibrate.fitting import Estimate, fit_line
from magnetite.core.calibrate.signal_levels import is_clipped, without_row_means

#: A group is a flat field if the pattern common to its frames, without slow shading, varies by
#: less than this share of its mean.
FLAT = 0.06
#: Least figure that is reported, in standard errors.
LEAST_ERRORS = 3.0
#: Levels this far apart separate PRNU and DSNU; a field shaded by as much is cut into parts.
_APART, _PARTS = 1.5, 6


@dataclass(frozen=True)
class FixedPattern:
    """Fixed-pattern noise: PRNU as a share of the signal, DSNU in dn; None if inseparable."""

    prnu: Estimate | None
    dsnu: Estimate | None
    #: How many groups of frames are flat fields.
    flat_fields: int


@dataclass(frozen=True)
class _Level:
    """A flat field: its mean, the variance of its common pattern, and its standard error."""

    #: Of the shading.
    darkest: float
    mean: float
    mean_square: float
    common: float
    #: From noise, which is new at every level.
    error: float


def fixed_pattern(
    stacks: Sequence[Float32],
    ends: tuple[float, float],
    quietest: float = -math.inf,
    dark: Float32 | None = None,
) -> FixedPattern:
    """Fit `dsnu² + prnu² m²` to the covariance of flat fields' frames.

    m² is the mean square of a field's shading. One level gives the PRNU alone, the DSNU being
    taken as 0. EMVA Standard 1288, release 4.0, section 4. Levels of one sensor show one pattern:
    its own sampling error, a share √(2 / n) of the variance of n samples, is added to that of
    the fit once and does not average out.

    Parameters
    ----------
    stacks : sequence of float32 arrays, shape (frames, h, w, channels), dn
        Left out are fields with more than 1 in 10,000 samples at black or full scale.
    ends : (float, float)
        Smallest and largest sample value, dn above black.
    quietest : float
        Fields with signals below this, dn, are left out: they have so little noise that
        rounding is a pattern itself.
    dark : float32 array, optional
        Frames without light: the level at which DSNU is alone.
    """
    usable = [s for s in stacks if _looks_flat(s) and not is_clipped(s, ends)]
    flat = [
        level
        for stack in usable
        for level in _levels(stack)
        if 0.02 * ends[1] < level.mean
        and quietest <= level.darkest
        and level.common < (FLAT * level.mean) ** 2
    ]
    if not flat:
        return FixedPattern(None, None, 0)
    if dark is not None and quietest < 0:
        flat += [replace(level, mean_square=0.0) for level in _levels(dark, parts=1)]
    square, common, error = (
        np.array(column)
        for column in zip(*((x.mean_square, x.common, x.error) for x in flat), strict=True)
    )
    share = math.sqrt(2 / min(stack[0].size for stack in usable))
    if len(flat) == 1 or square.max() < _APART**2 * square.min():
        weights = (square / error) ** 2
        prnu = float((weights * common / square).sum() / weights.sum())
        found = Estimate.of(prnu, float(weights.sum() ** -0.5))
        return FixedPattern(_root(found, share), None, len(usable))
    line = fit_line(square, common, error)
    return FixedPattern(_root(line.slope, share), _root(line.intercept, share), len(usable))


def _root(variance: Estimate, share: float) -> Estimate | None:
    """The root where the variance is significant, its error widened by the pattern's own."""
    if variance.value <= LEAST_ERRORS * variance.error:
        return None
    error = math.hypot(variance.error, share * variance.value)
    return Estimate.of(variance.value, error).root()


def _looks_flat(stack: Float32) -> bool:
    """Whether means of tiles follow a slow shading: quickly rules out scenes."""
    tiles = _tiles(stack[0])
    away = tiles.means - tiles.design @ tiles.weights
    return bool(away.std() < FLAT * tiles.means.mean())


def _levels(stack: Float32, parts: int | None = None) -> list[_Level]:
    """A field's level, or several where its shading spans them: covariance of two halves.

    The halves are those of its frames, shading apart.
    """
    half = len(stack) // 2
    one, two = stack[:half].mean(axis=0), stack[half:].mean(axis=0)
    shading = _slow((one + two) / 2)
    # Offsets of rows are new in every frame; they would only add noise here.
    one, two = (x - shading for x in (one, two))
    one, two = (x - x.mean(axis=(1, 2), keepdims=True) for x in (one, two))
    products, squares = without_row_means(one * two), one * one + two * two
    darkest, brightest = float(shading.min()), float(shading.max())
    parts = parts or (_PARTS if brightest > _APART * max(darkest, 0.0) else 1)
    edges = np.quantile(shading, np.linspace(0, 1, parts + 1)[1:-1])
    position = np.searchsorted(edges, shading)
    return [
        _level(shading[at], products[at], squares[at])
        for at in (position == part for part in range(parts))
    ]


def _level(*part: Float32) -> _Level:
    """Of the shading, the products and the sums of squares of both halves."""
    shading, products, squares = (x.astype(np.float64) for x in part)
    common, power = float(products.mean()), float(squares.mean()) / 2
    # Of a product of two halves with the same pattern, the variance by their noise alone.
    error = math.sqrt(max(power**2 - common**2, 1e-30) / shading.size)
    return _Level(
        float(shading.min()), float(shading.mean()), float(np.mean(shading**2)), common, error
    )


@dataclass(frozen=True)
class _Tiles:
    """Means of tiles, and the polynomial of the second degree in x and y that fits them."""

    means: Float64
    design: Float64
    weights: Float64


def _tiles(field: Float32) -> _Tiles:
    """Up to 64 tiles a side: they determine a parabola as well as all samples do."""
    height, width, channels = field.shape
    down, across = max(1, height // 64), max(1, width // 64)
    rows, columns = height // down, width // across
    cut = field[: rows * down, : columns * across].reshape(rows, down, columns, across, channels)
    means = cut.mean(axis=(1, 3), dtype=np.float64).reshape(-1, channels)
    y, x = _positions(height), _positions(width)
    ty = y[: rows * down].reshape(rows, down).mean(axis=1)
    tx = x[: columns * across].reshape(columns, across).mean(axis=1)
    grid = np.meshgrid(ty, tx, indexing="ij")
    design = np.stack([term.ravel() for term in _terms(*grid)], axis=1)
    return _Tiles(means, design, np.linalg.lstsq(design, means, rcond=None)[0])


def _slow(field: Float32) -> Float32:
    """Least-squares polynomial of the second degree in x and y, for each channel."""
    y, x = _positions(field.shape[0]), _positions(field.shape[1])
    constant, by_y, by_x, by_yy, by_yx, by_xx = _tiles(field).weights
    rows = constant + np.outer(y, by_y) + np.outer(y * y, by_yy)
    columns = np.outer(x, by_x) + np.outer(x * x, by_xx)
    mixed = np.einsum("y,x,c->yxc", y, x, by_yx)
    return np.asarray(rows[:, np.newaxis] + columns[np.newaxis] + mixed, dtype=np.float32)


def _positions(count: int) -> Float64:
    return np.linspace(-1, 1, count) if count > 1 else np.zeros(1)


def _terms(y: Float64, x: Float64) -> list[Float64]:
    return [np.ones_like(y), y, x, y * y, y * x, x * x]
