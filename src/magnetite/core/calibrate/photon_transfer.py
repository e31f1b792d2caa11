"""Noise of a camera from frames of still scenes or flat fields: photon transfer."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.arrays import Float32, Float64
from magnetite.core.calibrate.fitting import Estimate, Line
from magnetite.core.calibrate.fixed_pattern import FixedPattern, fixed_pattern
from magnetite.core.calibrate.signal_levels import (
    LEAST_SD,
    ROUNDING,
    Points,
    fit_levels,
    is_clipped,
    is_even,
    levels_of,
    row_noise,
    temporal_variance,
)
from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture
from magnetite.core.rows import data_frame

#: Frames belong together if the means of a grid of tiles differ by no more than this (of full
#: scale).
SAME_SCENE = 0.02
_GRID = 12
#: Chi-square per degree of freedom above which a straight line does not describe the camera.
_LARGEST_CHI_SQUARE = 3.0


class EstimateRow(NamedTuple):
    """One figure with its 95 % interval."""

    figure: str
    value: float
    low: float
    high: float
    unit: str


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
    #: Unit of the frames' samples: dn, or fs for float.
    unit: str = "dn"
    #: Remarks on the figures.
    remarks: tuple[str, ...] = ()

    def rows(self) -> list[EstimateRow]:
        """A row for each figure, with its 95 % interval."""
        found = [
            ("gain", f"{self.unit}/e", self.gain),
            ("full well (at full scale)", "e", self.full_well),
            ("read noise", "e", self.read),
            ("read noise", self.unit, self.read.scaled(self.gain.value)),
            ("row noise", "e", self.row),
            ("PRNU", "%", self.pattern.prnu and self.pattern.prnu.scaled(100)),
            ("DSNU", "e", self.pattern.dsnu and self.pattern.dsnu.scaled(1 / self.gain.value)),
        ]
        return [
            EstimateRow(figure, estimate.value, estimate.low, estimate.high, unit)
            for figure, unit, estimate in found
            if estimate is not None
        ]

    def frame(self) -> Any:
        """The rows as a pandas data frame."""
        return data_frame(self.rows())

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
    chapter 5. The frames must be linear, black at 0 dn. Left out are levels within 4 sd of black
    and full scale, and levels whose noise is below 0.6 digital numbers: there rounding no
    longer adds 1/12 dn² to the variance, whatever the noise. So are flat fields that are clipped.

    Parameters
    ----------
    frames : sequence of Picture
        Two or more of each still scene or flat field, of one size, depth and colour, in any
        order.

    Returns
    -------
    PhotonTransfer
        With 95 % confidence intervals. Those of read noise end at 0 where the frames cannot tell
        it from none.

    Raises
    ------
    PictureError
        If frames do not match, have no partner, span too little signal, or if rounding hides
        their noise.
    """
    scale = frames[0].full_scale
    rounded = frames[0].bits is not None
    stacks = [_stack(group) for group in _grouped(frames)]
    signals = [stack.mean(axis=0) for stack in stacks]
    deviations = [stack - signal for stack, signal in zip(stacks, signals, strict=True)]
    row = row_noise(deviations)
    levels = [
        levels_of(signal, temporal_variance(deviation, row is not None), len(deviation), rounded)
        for stack, signal, deviation in zip(stacks, signals, deviations, strict=True)
        if not (is_even(signal) and is_clipped(stack, scale))
    ]
    if not levels:
        raise PictureError("all flat fields are clipped at black or full scale: expose them within")
    points, line = fit_levels(levels, scale, rounded)
    gain = line.slope
    if gain.low <= 0:
        raise PictureError(
            "the variance does not grow with the signal: are the frames linear, of one still "
            "scene, and not clipped?"
        )
    read = _read_noise(line, ROUNDING if rounded else 0.0)
    pattern = fixed_pattern(stacks, scale, points.quietest)
    return PhotonTransfer(
        gain=gain,
        full_well=gain.under(scale),
        read=read,
        row=None if row is None else row.scaled(1 / gain.value),
        pattern=pattern,
        points=points,
        line=line,
        groups=tuple(map(len, stacks)),
        unit=frames[0].amplitude_unit,
        remarks=(*_remarks(line, read, points, rounded), *_pattern_remarks(pattern)),
    )


def _remarks(line: Line, read: Estimate, points: Points, rounded: bool) -> tuple[str, ...]:
    remarks = []
    hidden = rounded and bool((points.mean < points.quietest).any())
    if hidden:
        remarks.append(
            f"levels below {points.quietest:.4g} dn are left out: their noise is less than "
            f"{LEAST_SD:g} dn, and rounding hides it; frames of more bits show it"
        )
    if read.low == 0:
        remarks.append(
            f"the frames cannot tell the read noise from none; it is at most {read.high:.4g} e"
        )
    if line.chi_square > _LARGEST_CHI_SQUARE:
        remarks.append(
            f"the variance does not follow a straight line (chi-square {line.chi_square:.1f} per "
            "degree of freedom): check that the frames are linear, of one still scene and "
            "neither denoised nor compressed"
        )
    return tuple(remarks)


def _pattern_remarks(pattern: FixedPattern) -> list[str]:
    """Why fixed-pattern noise, or one part of it, has no figure."""
    if pattern.flat_fields == 0:
        return [
            "fixed-pattern noise (PRNU, DSNU) needs flat fields that are not clipped and show "
            "0.6 dn of noise or more; none is among these frames"
        ]
    if pattern.prnu is not None and pattern.dsnu is None:
        return ["no DSNU shows in these flat fields; one level alone cannot tell it from PRNU"]
    return []


def _stack(group: list[Picture]) -> Float32:
    """Digital numbers, shape (frames, h, w, channels)."""
    shape = (len(group), group[0].height, group[0].width, group[0].channels)
    return np.stack([frame.samples for frame in group]).reshape(shape).astype(np.float32)


def _grouped(frames: Sequence[Picture]) -> list[list[Picture]]:
    """Frames of one scene together."""
    if len(frames) < 2:
        raise PictureError("noise is calibrated from two or more frames of a still scene")
    first = frames[0]
    groups: list[tuple[Float64, list[Picture]]] = []
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


def _tiles(frame: Picture) -> Float64:
    """Means of a coarse grid of tiles, full-scale units; some 500 samples a side will do."""
    down, across = max(1, frame.height // 500), max(1, frame.width // 500)
    samples = frame.samples.reshape(frame.height, frame.width, -1)[::down, ::across]
    rows, columns = (np.array_split(np.arange(n), min(_GRID, n)) for n in samples.shape[:2])
    bands = np.add.reduceat(samples, [int(r[0]) for r in rows], axis=0, dtype=np.float64)
    sums = np.add.reduceat(bands, [int(c[0]) for c in columns], axis=1)
    sizes = np.outer([r.size for r in rows], [c.size for c in columns])
    return np.asarray(sums / sizes[..., np.newaxis] / frame.full_scale)


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
