"""Noise of a camera from frames of still scenes or flat fields: photon transfer."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from magnetite.core.calibrate.fitting import Estimate, Line, fit_line
from magnetite.core.calibrate.fixed_pattern import FixedPattern, fixed_pattern
from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture

Array = NDArray[np.float64]
#: Frames of one scene, shape (frames, h, w, channels), dn.
Stack = NDArray[np.float32]

#: Signal levels into which the samples of a scene are sorted.
BINS = 96
#: A level is used if it has so many samples and lies so many sd from black and full scale.
LEAST_SAMPLES = 200
CLEAR_OF_ENDS = 4.0
#: Frames belong together if the means of a grid of tiles differ by no more than this (of full
#: scale).
SAME_SCENE = 0.02
_GRID = 12
#: Variance of rounding to whole digital numbers, dn².
ROUNDING = 1 / 12


@dataclass(frozen=True)
class Points:
    """Measured levels: mean signal and temporal variance, dn and dn²; samples behind each."""

    mean: Array
    variance: Array
    count: Array
    #: Levels that the fit uses; the others are too near to black or full scale, or too few.
    used: NDArray[np.bool_]


@dataclass(frozen=True)
class PhotonTransfer:
    """A camera's noise: amplitudes in electrons, the gain in dn per electron."""

    gain: Estimate
    full_well: Estimate
    read: Estimate
    row: Estimate | None
    pattern: FixedPattern
    points: Points
    line: Line
    groups: tuple[int, ...]

    @property
    def step(self) -> str:
        """The step that makes the same noise."""
        words = [f"sensor-noise full-well={self.full_well.value:.5g}e read={self.read.value:.4g}e"]
        if self.pattern.prnu is not None:
            words.append(f"prnu={self.pattern.prnu.value:.3g}")
        if self.pattern.dsnu is not None:
            words.append(f"dsnu={self.pattern.dsnu.value / self.gain.value:.3g}e")
        if self.row is not None:
            words.append(f"row={self.row.value:.3g}e")
        return " ".join(words)


def photon_transfer(frames: Sequence[Picture]) -> PhotonTransfer:
    """Fit gain, read noise and, where the frames allow, row and fixed-pattern noise.

    In frames of one still scene the variance from frame to frame grows with the signal as
    `gain mean + read²` (in dn; shot noise and read noise); patterns that stay cancel out. A
    straight line is fitted to the variance at many levels of signal, each weighted by its
    standard error. EMVA Standard 1288, release 4.0, section 2; Janesick, Photon Transfer (2007),
    chapter 5. The frames must be linear, black at 0 dn.

    Parameters
    ----------
    frames : sequence of Picture
        Two or more of each still scene or flat field, of one size, depth and colour, in any
        order.

    Returns
    -------
    PhotonTransfer
        With 95 % confidence intervals.

    Raises
    ------
    PictureError
        If frames do not match, have no partner, or span too little signal.
    """
    scale = frames[0].full_scale
    stacks = [_stack(group) for group in _grouped(frames)]
    signals = [stack.mean(axis=0) for stack in stacks]
    deviations = [stack - signal for stack, signal in zip(stacks, signals, strict=True)]
    row = _row_noise(deviations)
    points = [
        _levels(signal, deviation, scale, row is not None)
        for signal, deviation in zip(signals, deviations, strict=True)
    ]
    merged = Points(*(np.concatenate(parts) for parts in zip(*map(_fields, points), strict=True)))
    line = _fitted(merged)
    rounding = 0.0 if frames[0].bits is None else ROUNDING
    gain = line.slope
    if gain.low <= 0:
        raise PictureError(
            "the variance does not grow with the signal: are the frames linear, of one still "
            "scene, and not clipped?"
        )
    pattern = fixed_pattern(stacks, scale)
    return PhotonTransfer(
        gain=gain,
        full_well=gain.under(scale),
        read=_read_noise(line, rounding),
        row=None if row is None else row.scaled(1 / gain.value),
        pattern=pattern,
        points=merged,
        line=line,
        groups=tuple(map(len, stacks)),
    )


def _fields(points: Points) -> tuple[NDArray[np.generic], ...]:
    return points.mean, points.variance, points.count, points.used


def _stack(group: list[Picture]) -> Stack:
    """Digital numbers, shape (frames, h, w, channels)."""
    shape = (len(group), group[0].height, group[0].width, group[0].channels)
    return np.stack([frame.samples for frame in group]).reshape(shape).astype(np.float32)


def _grouped(frames: Sequence[Picture]) -> list[list[Picture]]:
    """Frames of one scene together."""
    if len(frames) < 2:
        raise PictureError("noise is calibrated from two or more frames of a still scene")
    first = frames[0]
    groups: list[tuple[Array, list[Picture]]] = []
    for frame in frames:
        if (frame.samples.shape, frame.bits) != (first.samples.shape, first.bits):
            raise PictureError(
                f"the frames differ: {first.origin} is {first.describe()}, "
                f"{frame.origin} is {frame.describe()}"
            )
        tiles = _tiles(frame)
        for other, members in groups:
            if np.abs(tiles - other).max() < SAME_SCENE:
                if frame.same_samples(members[0]):
                    raise PictureError(
                        f"{frame.origin} and {members[0].origin} are identical: give frames that "
                        "were taken one after the other"
                    )
                members.append(frame)
                break
        else:
            groups.append((tiles, [frame]))
    alone = [members[0].origin for _, members in groups if len(members) == 1]
    if alone:
        raise PictureError(
            f"no other frame shows the same as {', '.join(alone)}: give two or more of each "
            "scene or level, from a camera that does not move"
        )
    return [members for _, members in groups]


def _tiles(frame: Picture) -> Array:
    """Means of a coarse grid of tiles, full-scale units; some 500 samples a side will do."""
    down, across = max(1, frame.height // 500), max(1, frame.width // 500)
    samples = frame.samples.reshape(frame.height, frame.width, -1)[::down, ::across]
    rows, columns = (np.array_split(np.arange(n), min(_GRID, n)) for n in samples.shape[:2])
    bands = np.add.reduceat(samples, [int(r[0]) for r in rows], axis=0, dtype=np.float64)
    sums = np.add.reduceat(bands, [int(c[0]) for c in columns], axis=1)
    sizes = np.outer([r.size for r in rows], [c.size for c in columns])
    return np.asarray(sums / sizes[..., np.newaxis] / frame.full_scale)


def _row_noise(deviations: list[Stack]) -> Estimate | None:
    """Sd of the rows' own offsets, dn, if it stands out from what independent samples give."""
    excess, errors = [], []
    for deviation in deviations:
        free = len(deviation) - 1
        rows = deviation.mean(axis=(2, 3), dtype=np.float64)
        width = deviation.shape[2] * deviation.shape[3]
        independent = float(np.vdot(deviation, deviation)) / (free * deviation[0].size) / width
        measured = float((rows**2).sum()) / (free * rows.shape[1])
        excess.append(measured - independent)
        errors.append(measured * math.sqrt(2 / (free * rows.shape[1])))
    weights = 1 / np.square(errors)
    mean = float((weights * excess).sum() / weights.sum())
    error = float(weights.sum() ** -0.5)
    return Estimate.of(mean, error).root() if mean > CLEAR_OF_ENDS * error else None


def _levels(
    signal: NDArray[np.float32], deviation: Stack, full_scale: float, rows_vary: bool
) -> Points:
    """Temporal variance against mean signal of one scene."""
    free = len(deviation) - 1
    # A row's own offset would count as noise of every sample: take it off, with its freedom.
    lost = 1.0
    if rows_vary:
        deviation = deviation - deviation.mean(axis=(2, 3), keepdims=True)
        lost = 1 - 1 / (deviation.shape[2] * deviation.shape[3])
    squares = np.einsum("fhwc,fhwc->hwc", deviation, deviation) / np.float32(free * lost)
    low, high = float(signal.min()), float(signal.max())
    scale = BINS / max(high - low, 1e-12)
    index = ((signal.ravel() - low) * scale).astype(np.intp).clip(0, BINS - 1)
    count = np.bincount(index, minlength=BINS)
    held = count > 0
    mean = np.bincount(index, signal.ravel(), BINS)[held] / count[held]
    variance = np.bincount(index, squares.ravel(), BINS)[held] / count[held]
    reach = CLEAR_OF_ENDS * np.sqrt(variance)
    clear = (mean > reach) & (mean < full_scale - reach)
    freedom = count[held].astype(np.float64) * free
    return Points(
        np.asarray(mean, np.float64),
        np.asarray(variance, np.float64),
        freedom,
        clear & (count[held] >= LEAST_SAMPLES),
    )


def _read_noise(line: Line, rounding: float) -> Estimate:
    """Root of the intercept over the slope, electrons; what rounding adds is taken off.

    Intercept and slope err together, so the square's error is that of their ratio.
    """
    gain, floor = line.slope, line.intercept.shifted(-rounding)
    square = floor.value / gain.value**2
    by_floor, by_gain = gain.value**-2, -2 * square / gain.value
    variance = (by_floor * floor.error) ** 2 + (by_gain * gain.error) ** 2
    variance += 2 * by_floor * by_gain * line.covariance
    return Estimate.of(square, math.sqrt(max(variance, 0.0))).root()


def _fitted(points: Points) -> Line:
    mean, variance, count = (x[points.used] for x in (points.mean, points.variance, points.count))
    if mean.size < 2 or mean.max() < 1.3 * mean.min():
        raise PictureError(
            "the frames span too little signal to tell shot noise from read noise: show a scene "
            "of dark and bright parts, or flat fields at several levels"
        )
    floor = 0.01 * float(variance.mean())
    expected = np.maximum(variance, floor)
    for _ in range(4):  # the standard error of a variance follows from the variance itself
        line = fit_line(mean, variance, np.sqrt(2 / count) * expected)
        expected = np.maximum(line.at(mean), floor)
    return line
