"""Photon transfer of one sensor: the line of variance over signal, and its figures."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.arrays import Float32
from magnetite.core.calibrate.exposures import grouped
from magnetite.core.calibrate.fitting import Estimate, Line
from magnetite.core.calibrate.fixed_pattern import FixedPattern, fixed_pattern
from magnetite.core.calibrate.signal_levels import (
    LEAST_SD,
    MOST_CLIPPED,
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
from magnetite.core.picture.frame import encoded_remark
from magnetite.core.quantities import significant
from magnetite.core.table import Tabular

#: Chance of a chi-square this far from 1 below which the line does not describe the camera, and
#: the range within which intervals are widened instead.
_IMPOSSIBLE, _NEAR_ONE = 1e-4, (0.5, 2.0)
#: Standard errors by which a negative variance of the read noise stands out.
_LEAST_ERRORS = 4.0


class EstimateRow(NamedTuple):
    """One figure with its 95 % interval."""

    figure: str
    value: float
    low: float
    high: float
    unit: str


@dataclass(frozen=True, repr=False)
class PhotonTransfer(Tabular):
    """A camera's noise: amplitudes in electrons, the gain in dn per electron."""

    gain: Estimate
    full_well: Estimate
    read: Estimate
    row: Estimate | None
    #: PRNU as a share of the signal, DSNU in electrons; None where they cannot be measured.
    prnu: Estimate | None
    dsnu: Estimate | None
    #: Read noise and DSNU in the samples' unit: without the error of the gain.
    read_samples: Estimate
    dsnu_samples: Estimate | None
    flat_fields: int
    points: Points
    line: Line
    groups: tuple[int, ...]
    #: Unit of the frames' samples: dn, or fs for float.
    unit: str = "dn"
    #: Remarks on the figures.
    remarks: tuple[str, ...] = ()
    #: Red, green and blue of a mosaic whose gains differ; the other figures are those of green.
    colours: Mapping[str, PhotonTransfer] = field(default_factory=dict)
    #: Of that mosaic.
    pattern: str = ""

    def rows(self) -> list[EstimateRow]:
        """A row for each figure, with its 95 % interval; of each colour where these differ."""
        if self.colours:
            return [
                row._replace(figure=f"{row.figure}, {colour}")
                for colour, own in self.colours.items()
                for row in own.rows()
            ]
        found = [
            ("gain", f"{self.unit}/e", self.gain),
            ("full well (at full scale)", "e", self.full_well),
            ("read noise", "e", self.read),
            ("read noise", self.unit, self.read_samples),
            ("row noise", "e", self.row),
            ("PRNU", "%", self.prnu and self.prnu.scaled(100)),
            ("DSNU", "e", self.dsnu),
            ("DSNU", self.unit, self.dsnu_samples),
        ]
        return [
            EstimateRow(figure, estimate.value, estimate.low, estimate.high, unit)
            for figure, unit, estimate in found
            if estimate is not None
        ]

    @property
    def step(self) -> str:
        """The step that makes the same noise."""
        full_well = significant(self.full_well.value, 5)
        words = [f"sensor-noise full-well={full_well}e read={self.read.value:.4g}e"]
        if self.prnu is not None:
            words.append(f"prnu={self.prnu.value:.3g}")
        if self.dsnu is not None:
            words.append(f"dsnu={self.dsnu.value:.3g}e")
        if self.row is not None:
            words.append(f"row={self.row.value:.3g}e")
        words += [
            f"full-well-{colour}={significant(own.full_well.value, 5)}e"
            for colour, own in self.colours.items()
            if colour != "green"
        ]
        if self.colours:
            words.append(f"pattern={self.pattern}")
        return " ".join(words)


def transfer(
    frames: Sequence[Picture],
    darks: Sequence[Picture],
    black: float | None,
    *,
    mosaic: bool = False,
) -> PhotonTransfer:
    """Figures of one sensor, or of one colour of it; see `photon_transfer`.

    `mosaic` says that the fixed pattern is that of each colour of 2 by 2 samples.
    """
    if darks:
        return _transfer(frames, _black_of(darks, frames[0]), darks, mosaic=mosaic)
    if black is not None:
        return _transfer(frames, black, (), mosaic=mosaic)
    found = _transfer(frames, 0.0, (), mosaic=mosaic)
    darkest = float(found.points.mean[found.points.used].min())
    return _with_any_black(
        found, _transfer(frames, darkest, (), fits=False, mosaic=mosaic), darkest
    )


def _black_of(darks: Sequence[Picture], first: Picture) -> float:
    """Mean of the frames without light, dn."""
    for dark in darks:
        if (dark.samples.shape, dark.bits) != (first.samples.shape, first.bits):
            raise PictureError(
                f"the dark frame {dark.origin} is {dark.describe()}, and {first.origin} is "
                f"{first.describe()}"
            )
        clipped = float(np.mean(dark.samples <= 0))
        if clipped > MOST_CLIPPED:
            raise PictureError(
                f"{dark.origin}: {clipped:.2%} of this dark frame's samples are clipped at 0: it "
                "gives neither black level nor read noise; state the level with --black"
            )
    return float(np.mean([dark.samples.mean(dtype=np.float64) for dark in darks]))


def _transfer(
    frames: Sequence[Picture],
    black: float,
    darks: Sequence[Picture],
    *,
    fits: bool = True,
    mosaic: bool,
) -> PhotonTransfer:
    """The figures for one black level; `fits` refuses one that the variance rules out."""
    rounded, ends = frames[0].bits is not None, _ends(frames, black)
    stacks = [_stack(group, black) for group in grouped(frames, black)]
    dark = _stack(sorted(darks, key=lambda d: d.digest()), black) if len(darks) > 1 else None
    every = stacks if dark is None else [*stacks, dark]
    signals = [stack.mean(axis=0) for stack in every]
    # Frames without light show no scene that could be brighter in one of them.
    evens = [
        stack is dark or is_even(by_colour(signal) if mosaic else signal)
        for stack, signal in zip(every, signals, strict=True)
    ]
    seen = zip(every, signals, evens, strict=True)
    deviations = [_deviation(stack, signal, even) for stack, signal, even in seen]
    row = row_noise(deviations)
    levels = [
        levels_of(signal, temporal_variance(deviation, row is not None), len(deviation), rounded,
                  even=stack is dark)
        for stack, signal, deviation, even in zip(every, signals, deviations, evens, strict=True)
        if stack is dark or not (even and is_clipped(stack, ends))
    ]  # fmt: skip
    if len(levels) == (dark is not None):
        raise PictureError("all flat fields are clipped at black or full scale: expose them within")
    points, line = fit_levels(levels, ends, rounded)
    if line.slope.low <= 0:
        raise PictureError(
            "the variance does not grow with the signal: are the frames linear, of one still "
            "scene, and not clipped?"
        )
    line, remarks = _judged(line, points)
    rounding = ROUNDING if rounded else 0.0
    if fits:
        _check_black(line, rounding, black, frames[0].amplitude_unit)
    read = _read_noise(line, rounding)
    fields = [by_colour(stack) for stack in stacks] if mosaic else stacks
    without = by_colour(dark) if mosaic and dark is not None else dark
    pattern = fixed_pattern(fields, ends, points.quietest, without)
    gain = line.slope
    return PhotonTransfer(
        gain=gain,
        full_well=gain.under(frames[0].full_scale - black),
        read=read,
        row=None if row is None else row.over(gain),
        prnu=pattern.prnu,
        dsnu=None if pattern.dsnu is None else pattern.dsnu.over(gain),
        read_samples=line.intercept.shifted(-rounding).root(),
        dsnu_samples=pattern.dsnu,
        flat_fields=pattern.flat_fields,
        points=points,
        line=line,
        groups=tuple(map(len, every)),
        unit=frames[0].amplitude_unit,
        remarks=(
            *encoded_remark(frames[0].light, "the figures of the noise"),
            *remarks, *_remarks(read, points, rounded), *_pattern_remarks(pattern),
            *_ceiling_remarks(frames[0], ends, black),
        ),
    )  # fmt: skip


def _ends(frames: Sequence[Picture], black: float) -> tuple[float, float]:
    """Smallest and largest sample values, above black; the largest may lie below full scale."""
    top = max(float(frame.samples.max()) for frame in frames)
    held = max(float(np.mean(frame.samples == top)) for frame in frames)
    full = top if held > _CEILING else frames[0].full_scale
    return -black, full - black


#: Share of a frame's samples at the largest value of all frames that makes it their ceiling.
_CEILING = 1e-2


def _ceiling_remarks(first: Picture, ends: tuple[float, float], black: float) -> list[str]:
    top = ends[1] + black
    if top >= first.full_scale or first.bits is None:
        return []
    return [
        f"many samples are at {top:.5g} dn, the largest of all, and count as clipped: if that is "
        f"the camera's full scale, say --full-scale {top:.5g}"
    ]


def _judged(line: Line, points: Points) -> tuple[Line, list[str]]:
    """The line with intervals that its chi-square allows, and a remark where it allows none."""
    freedom = int(points.used.sum()) - 2
    if freedom < 1:
        return line, ["two levels of signal: whether the variance follows a line is not tested"]
    from scipy.special import chdtr, chdtrc

    total = line.chi_square * freedom
    chance = min(float(chdtr(freedom, total)), float(chdtrc(freedom, total)))
    low, high = _NEAR_ONE
    if chance > _IMPOSSIBLE:
        return line, []
    if low < line.chi_square < high:
        return line.widened(max(1.0, math.sqrt(line.chi_square))), []
    return line.widened(math.nan), [
        f"the variance does not follow a straight line as independent noise does (chi-square "
        f"{line.chi_square:.2f} per degree of freedom): no interval is given; check that the "
        "frames are linear, of still scenes and neither denoised nor compressed"
    ]


def _check_black(line: Line, rounding: float, black: float, unit: str) -> None:
    floor = line.intercept.shifted(-rounding)
    if floor.value < -_LEAST_ERRORS * floor.error:
        crossing = black - floor.value / line.slope.value
        raise PictureError(
            f"the variance falls to that of rounding at {significant(crossing, 4)} {unit}, so the "
            f"black level is above {significant(black, 4)} {unit}: name frames without light with "
            "--dark, or state the level with --black"
        )


def _with_any_black(found: PhotonTransfer, other: PhotonTransfer, darkest: float) -> PhotonTransfer:
    """Figures for black at 0 with intervals over all black levels up to the darkest signal."""

    def both(one: Estimate | None, two: Estimate | None) -> Estimate | None:
        if one is None or two is None:
            return None
        return Estimate(one.value, min(one.low, two.low), max(one.high, two.high))

    figures = ("full_well", "read", "read_samples", "prnu", "dsnu", "dsnu_samples")
    wide: dict[str, Any] = {k: both(getattr(found, k), getattr(other, k)) for k in figures}
    return replace(
        found,
        **wide,
        remarks=(
            f"the black level is taken for 0, and the intervals reach over all levels up to "
            f"{significant(darkest, 4)} {found.unit}: frames without light (--dark), or the level "
            "(--black), "
            "separate read noise and black level",
            *found.remarks,
        ),
    )


def by_colour(samples: Float32) -> Float32:
    """Samples of mosaics, shape (..., h, w, 1), as (..., h / 2, w / 2, 4); odd ends left out."""
    height, width = (n // 2 * 2 for n in samples.shape[-3:-1])
    parts = [samples[..., i:height:2, j:width:2, 0] for i in range(2) for j in range(2)]
    return np.stack(parts, axis=-1)


def _deviation(stack: Float32, signal: Float32, even: bool) -> Float32:
    """Frames less the scene, at the brightness that each of them was taken at."""
    centred = signal - signal.mean()
    power = float(np.vdot(centred, centred))
    if even or power == 0:
        own = stack.mean(axis=(1, 2, 3), keepdims=True) - signal.mean()
        return np.asarray(stack - signal - own)
    slopes = np.einsum("fhwc,hwc->f", stack - stack.mean(axis=(1, 2, 3), keepdims=True), centred)
    scaled = (slopes / power)[:, np.newaxis, np.newaxis, np.newaxis].astype(np.float32) * centred
    return np.asarray(stack - stack.mean(axis=(1, 2, 3), keepdims=True) - scaled)


def _remarks(read: Estimate, points: Points, rounded: bool) -> tuple[str, ...]:
    remarks = []
    hidden = rounded and bool((points.mean < points.quietest).any())
    if hidden:
        remarks.append(
            f"levels below {significant(points.quietest, 4)} dn are left out: their noise is less "
            f"than {LEAST_SD:g} dn, and rounding hides it; frames of more bits show it"
        )
    if read.low == 0:
        remarks.append(
            f"the read noise cannot be distinguished from 0; it is at most {read.high:.4g} e"
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
        return ["no DSNU shows in these frames; one level alone cannot separate it from PRNU"]
    return []


def _stack(group: Sequence[Picture], black: float) -> Float32:
    """Digital numbers above black, shape (frames, h, w, channels)."""
    shape = (len(group), group[0].height, group[0].width, group[0].channels)
    samples = np.stack([frame.samples for frame in group]).reshape(shape)
    return np.asarray(samples.astype(np.float32) - np.float32(black))


def _read_noise(line: Line, rounding: float) -> Estimate:
    """Root of the intercept over the slope, electrons; rounding noise is subtracted.

    Intercept and slope err together, so the square's error is that of their ratio.
    """
    gain, floor = line.slope, line.intercept.shifted(-rounding)
    square = floor.value / gain.value**2
    by_floor, by_gain = gain.value**-2, -2 * square / gain.value
    variance = (by_floor * floor.error) ** 2 + (by_gain * gain.error) ** 2
    variance += 2 * by_floor * by_gain * line.covariance
    return Estimate.of(square, math.sqrt(max(variance, 0.0))).root()
