"""Fixed-pattern noise from flat fields: what frames of one level have in common."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from magnetite.core.calibrate.fitting import Estimate, fit_line

#: A group is a flat field if what its frames have in common, slow shading apart, varies by
#: less than this share of its mean.
FLAT = 0.06
#: Figures below so many standard errors are not reported.
LEAST_ERRORS = 3.0


@dataclass(frozen=True)
class FixedPattern:
    """Fixed-pattern noise: PRNU as a share of the signal, DSNU in dn; None if not to be told."""

    prnu: Estimate | None
    dsnu: Estimate | None
    #: How many groups of frames are flat fields.
    flat_fields: int


def fixed_pattern(stacks: Sequence[NDArray[np.float32]], full_scale: float) -> FixedPattern:
    """Fit `dsnu² + prnu² mean²` to the covariance of flat fields' frames.

    One level gives the PRNU alone, the DSNU being taken as 0. EMVA Standard 1288, release 4.0,
    section 4.

    Parameters
    ----------
    stacks : sequence of float32 arrays, shape (frames, h, w, channels), dn
    full_scale : float
        dn.
    """
    levels = [_common_variance(stack) for stack in stacks if _looks_flat(stack)]
    flat = [
        (mean, common, error)
        for mean, common, error in levels
        if 0.02 * full_scale < mean < 0.98 * full_scale and common < (FLAT * mean) ** 2
    ]
    if not flat:
        return FixedPattern(None, None, 0)
    mean, common, error = (np.array(column) for column in zip(*flat, strict=True))
    if len(flat) == 1 or mean.max() < 1.5 * mean.min():
        weights = 1 / error**2
        share = float((weights * common / mean**2).sum() / weights.sum())
        spread = float(1 / math.sqrt((weights * mean**4).sum()))
        return FixedPattern(_significant(share, spread), None, len(flat))
    line = fit_line(mean**2, common, error)
    return FixedPattern(_root(line.slope), _root(line.intercept), len(flat))


def _root(variance: Estimate) -> Estimate | None:
    error = (variance.high - variance.low) / 4
    return variance.root() if variance.value > LEAST_ERRORS * error else None


def _significant(variance: float, error: float) -> Estimate | None:
    return Estimate.of(variance, error).root() if variance > LEAST_ERRORS * error else None


def _looks_flat(stack: NDArray[np.float32]) -> bool:
    """Whether means of tiles follow a slow shading: quickly rules out scenes."""
    tiles = _tiles(stack[0])
    away = tiles.means - tiles.design @ tiles.weights
    return bool(away.std() < FLAT * tiles.means.mean())


def _common_variance(stack: NDArray[np.float32]) -> tuple[float, float, float]:
    """Mean; covariance of two halves of the frames, shading apart; its standard error."""
    half = len(stack) // 2
    mean = float(stack.mean(dtype=np.float64))
    one, two = stack[:half].mean(axis=0), stack[half:].mean(axis=0)
    shading = _slow((one + two) / 2)
    # Offsets of rows are new in every frame; they would only add noise here.
    one, two = (x - shading for x in (one, two))
    one, two = (x - x.mean(axis=(1, 2), keepdims=True) for x in (one, two))
    size = one.size
    common = float(np.vdot(one, two)) / size
    powers = float(np.vdot(one, one)) * float(np.vdot(two, two)) / size**2
    return mean, common, math.sqrt((powers + common**2) / size)


@dataclass(frozen=True)
class _Tiles:
    """Means of tiles, and the polynomial of the second degree in x and y that fits them."""

    means: NDArray[np.float64]
    design: NDArray[np.float64]
    weights: NDArray[np.float64]


def _tiles(field: NDArray[np.float32]) -> _Tiles:
    """Up to 64 tiles a side: they tell a parabola as well as all samples do."""
    height, width, channels = field.shape
    down, across = max(1, height // 64), max(1, width // 64)
    rows, columns = height // down, width // across
    cut = field[: rows * down, : columns * across].reshape(rows, down, columns, across, channels)
    means = cut.mean(axis=(1, 3), dtype=np.float64).reshape(-1, channels)
    y, x = _places(height), _places(width)
    ty = y[: rows * down].reshape(rows, down).mean(axis=1)
    tx = x[: columns * across].reshape(columns, across).mean(axis=1)
    grid = np.meshgrid(ty, tx, indexing="ij")
    design = np.stack([term.ravel() for term in _terms(*grid)], axis=1)
    return _Tiles(means, design, np.linalg.lstsq(design, means, rcond=None)[0])


def _slow(field: NDArray[np.float32]) -> NDArray[np.float32]:
    """Least-squares polynomial of the second degree in x and y, for each channel."""
    y, x = _places(field.shape[0]), _places(field.shape[1])
    constant, by_y, by_x, by_yy, by_yx, by_xx = _tiles(field).weights
    rows = constant + np.outer(y, by_y) + np.outer(y * y, by_yy)
    columns = np.outer(x, by_x) + np.outer(x * x, by_xx)
    mixed = np.einsum("y,x,c->yxc", y, x, by_yx)
    return np.asarray(rows[:, np.newaxis] + columns[np.newaxis] + mixed, dtype=np.float32)


def _places(count: int) -> NDArray[np.float64]:
    return np.linspace(-1, 1, count) if count > 1 else np.zeros(1)


def _terms(y: NDArray[np.float64], x: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    return [np.ones_like(y), y, x, y * y, y * x, x * x]
