"""Temporal variance of frames at many levels of signal, and the straight line through it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Bools, Float32, Float64
from magnetite.core.calibrate.fitting import Estimate, Line, fit_line
from magnetite.core.errors import PictureError

#: A level is used if it has this many samples and lies this many sd from black and full scale.
LEAST_SAMPLES = 200
CLEAR_OF_ENDS = 4.0
#: Variance of rounding to whole digital numbers, dn², and the sd from which noise makes it so:
#: from there on the variance at any signal is off by at most 0.3 %.
ROUNDING, LEAST_SD = 1 / 12, 0.6
#: Cells of a scene's range that are kept or left out as a whole, and how many make one level.
_CELLS, _CELLS_PER_LEVEL = 1024, 10
#: Least row noise that stands out, in standard errors.
_LEAST_ERRORS = 4.0
_ROUNDS = 4
#: Least variance of the line at a level, a share of the measured one, for its standard error.
_LEAST_EXPECTED = 0.5
#: Sd of a flat field's tile means, a share of their mean.
_EVEN = 0.05
#: ... or as a multiple of the sd that the samples within a tile predict.
_CHANCE = 1.5
#: Share of a field's samples at black and full scale above which it is clipped.
MOST_CLIPPED = 1e-4


@dataclass(frozen=True)
class Points:
    """Measured levels: mean signal and temporal variance, dn and dn²; samples behind each."""

    mean: Float64
    variance: Float64
    count: Float64
    #: Levels that the fit uses; the others are too near to black or full scale, have too little
    #: noise or too few samples.
    used: Bools
    #: Signal at which noise reaches the least sd, dn; -inf where it does everywhere.
    quietest: float = -math.inf

    def errors(self, line: Line) -> Float64:
        """Standard errors of the variances, dn², which follow from those that a line expects."""
        return np.sqrt(2 / self.count) * np.maximum(line.at(self.mean), self._floor)

    def those_used(self) -> Points:
        """The levels that the fit uses."""
        used = self.used
        return Points(self.mean[used], self.variance[used], self.count[used], used[used])

    @property
    def _floor(self) -> Float64:
        """Least variances that are expected, dn²."""
        return np.asarray(np.maximum(_LEAST_EXPECTED * self.variance, np.finfo(float).tiny))


@dataclass(frozen=True)
class Cells:
    """Sums over the samples in each narrow cell of signal of one scene."""

    low: Float64
    high: Float64
    count: Float64
    signal: Float64
    variance: Float64
    #: Degrees of freedom behind each sample's variance.
    freedom: int


def temporal_variance(deviation: Float32, rows_vary: bool) -> Float32:
    """Unbiased variance of each sample over the frames, shape (h, w, channels), dn².

    Where rows have offsets of their own, the deviations' row means are subtracted.
    """
    free = np.float32(len(deviation) - 1)
    if not rows_vary:
        return np.asarray(np.einsum("fhwc,fhwc->hwc", deviation, deviation) / free)
    deviation = deviation - deviation.mean(axis=(2, 3), keepdims=True)
    return without_row_means(np.einsum("fhwc,fhwc->hwc", deviation, deviation) / free)


def without_row_means(products: Float32) -> Float32:
    """Unbiased products of deviations that have lost the mean of their row, shape (h, w, c).

    That leaves `E[s²] = v (1 - 2 / W) + v̄ / W` of a sample of variance v in a row of W samples
    whose mean variance is v̄; and the row's mean of s² is `v̄ (1 - 1 / W)`.
    """
    width = products.shape[1] * products.shape[2]
    if width < 3:
        return products
    row_mean = products.mean(axis=(1, 2), keepdims=True) / np.float32(width - 1)
    return np.asarray((products - row_mean) / np.float32(1 - 2 / width))


def row_noise(deviations: Sequence[Float32]) -> Estimate | None:
    """Sd of the rows' own offsets, dn, if it stands out from that of independent samples."""
    excess, of_samples, shares = [], [], []
    for deviation in deviations:
        free = len(deviation) - 1
        rows = deviation.mean(axis=(2, 3), dtype=np.float64)
        width = deviation.shape[2] * deviation.shape[3]
        if width < 2:
            return None
        total = float(np.vdot(deviation, deviation)) / (free * deviation[0].size)
        if total == 0:
            continue
        measured = float((rows**2).sum()) / (free * rows.shape[1])
        # The samples' own variance is the total less that of the rows' offsets.
        excess.append((measured - total / width) / (1 - 1 / width))
        of_samples.append(max(0.0, total - excess[-1]) / width)
        shares.append(math.sqrt(2 / (free * rows.shape[1])))
    if not excess:
        return None
    mean = float(np.mean(excess))
    # Errors by the common mean: by each level's own, those that are small by chance would weigh
    # most.
    for _ in range(_ROUNDS):
        errors = np.array(shares) * (max(0.0, mean) + np.array(of_samples))
        weights = 1 / np.square(errors)
        mean = float((weights * excess).sum() / weights.sum())
    error = float(weights.sum() ** -0.5)
    return Estimate.of(mean, error).root() if mean > _LEAST_ERRORS * error else None


def levels_of(
    signal: Float32, variance: Float32, frames: int, rounded: bool, *, even: bool = False
) -> Cells:
    """Sort a scene's samples into cells of like signal; both arrays of shape (h, w, channels).

    Of rounded samples ten cells span a digital number or more, so that means of frames that lie
    between two of them share a level. A flat field is one cell: the variation of its means is noise
    and fixed pattern, not light.
    """
    low, high = float(signal.min()), float(signal.max())
    across = max(high - low, 1e-12)
    cells = min(_CELLS, _CELLS_PER_LEVEL * max(1, math.floor(across))) if rounded else _CELLS
    cells = 1 if even or is_even(signal) else cells
    index = ((signal.ravel() - low) * (cells / across)).astype(np.intp).clip(0, cells - 1)
    count = np.bincount(index, minlength=cells)
    edges = low + across * np.arange(cells + 1) / cells
    return Cells(
        edges[:-1],
        edges[1:],
        count.astype(np.float64),
        np.bincount(index, signal.ravel().astype(np.float64), cells).astype(np.float64),
        np.bincount(index, variance.ravel().astype(np.float64), cells).astype(np.float64),
        frames - 1,
    )


def is_even(signal: Float32) -> bool:
    """Whether tiles of a signal, shape (h, w, channels), differ no more than a flat field's."""
    height, width, channels = signal.shape
    down, across = max(1, height // 32), max(1, width // 32)
    rows, columns = height // down, width // across
    cut = signal[: rows * down, : columns * across]
    tiles = cut.reshape(rows, down, columns, across, channels).swapaxes(1, 2)
    tiles = tiles.reshape(rows * columns, -1)
    means, within = tiles.mean(axis=1, dtype=np.float64), float(tiles.std(axis=1).mean())
    by_chance = _CHANCE * within / math.sqrt(tiles.shape[1])
    return bool(means.std() < max(_EVEN * abs(float(means.mean())), by_chance))


def is_clipped(stack: Float32, ends: tuple[float, float]) -> bool:
    """Whether samples of shape (frames, h, w, channels) at either end weaken noise and pattern."""
    at_ends = int(np.count_nonzero(stack <= ends[0]) + np.count_nonzero(stack >= ends[1]))
    return at_ends > MOST_CLIPPED * stack.size


def fit_levels(
    scenes: Sequence[Cells], ends: tuple[float, float], rounded: bool
) -> tuple[Points, Line]:
    """The line of variance over signal, through the levels that it describes itself.

    Which levels are clear of both ends and noisy enough follows from the line, and the line from
    these levels: a few rounds settle it.

    Raises
    ------
    PictureError
        If too few levels are left.
    """
    kept = [_clear_by_own_variance(cells, ends) for cells in scenes]
    for _ in range(_ROUNDS):
        points = _merged(scenes, kept)
        line = _fitted(points, rounded)
        quietest = _quietest(line) if rounded else -math.inf
        kept = [_clear(cells, line, ends, quietest) for cells in scenes]
    points = _merged(scenes, kept, quietest)
    return points, _fitted(points, rounded)


def _clear_by_own_variance(cells: Cells, ends: tuple[float, float]) -> Bools:
    held = np.maximum(cells.count, 1)
    mean = cells.signal / held
    reach = CLEAR_OF_ENDS * np.sqrt((cells.variance / held).clip(0, None))
    return np.asarray((mean > ends[0] + reach) & (mean < ends[1] - reach))


def _clear(cells: Cells, line: Line, ends: tuple[float, float], quietest: float) -> Bools:
    mean = cells.signal / np.maximum(cells.count, 1)
    first, last = (cells.low, cells.high) if mean.size > 1 else (mean, mean)
    low, high = (CLEAR_OF_ENDS * np.sqrt(line.at(edge).clip(0, None)) for edge in (first, last))
    within = (first > ends[0] + low) & (last < ends[1] - high)
    return np.asarray(within & (first >= quietest))


def _quietest(line: Line) -> float:
    """Signal at which the noise, without that of rounding, has the least sd."""
    rest = LEAST_SD**2 + ROUNDING - line.intercept.value
    return rest / line.slope.value if line.slope.value > 0 and rest > 0 else -math.inf


def _merged(scenes: Sequence[Cells], kept: Sequence[Bools], quietest: float = -math.inf) -> Points:
    """Levels of several cells each, those kept and those left out apart."""
    parts = []
    for cells, keep in zip(scenes, kept, strict=True):
        level = np.arange(cells.count.size) // _CELLS_PER_LEVEL
        for chosen in (keep, ~keep):
            count, signal, variance = (
                np.bincount(level, np.where(chosen, sums, 0.0)).astype(np.float64)
                for sums in (cells.count, cells.signal, cells.variance)
            )
            held = count > 0
            mean, spread = signal[held] / count[held], variance[held] / count[held]
            used = (count[held] >= LEAST_SAMPLES) & (chosen is keep)
            parts.append(Points(mean, spread, count[held] * cells.freedom, used))
    mean, variance, count, used = (
        np.concatenate(column)
        for column in zip(*((p.mean, p.variance, p.count, p.used) for p in parts), strict=True)
    )
    return Points(mean, variance, count, used.astype(bool), quietest)


def _fitted(points: Points, rounded: bool) -> Line:
    used = points.those_used()
    mean, variance = used.mean, used.variance
    if mean.size < 2 or mean.max() < 1.3 * mean.min():
        loudest = float(points.variance.max(initial=0.0))
        if rounded and loudest < 2 * (LEAST_SD**2 + ROUNDING):
            raise PictureError(
                f"the noise of the frames is below {LEAST_SD:g} digital numbers, and rounding "
                "hides it: take frames of more bits, or at a higher gain"
            )
        raise PictureError(
            "the frames span too little signal to separate shot noise and read noise: show a scene "
            "of dark and bright parts, or flat fields at several levels"
        )
    error = np.sqrt(2 / used.count) * np.maximum(variance, np.finfo(float).tiny)
    for _ in range(4):
        line = fit_line(mean, variance, error)
        error = used.errors(line)
    return line
