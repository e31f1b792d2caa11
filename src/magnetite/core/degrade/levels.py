"""Coarser gray levels."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Float32, Float64, Pixels
from magnetite.core.compute.bands import bands_of
from magnetite.core.compute.random import draw, uniform
from magnetite.core.compute.threads import spread
from magnetite.core.degrade._histogram_levels import lloyd_max, optimal
from magnetite.core.degrade.certify.change import Change, Finding, rms
from magnetite.core.degrade.certify.survey import Survey, rows, squares
from magnetite.core.degrade.kernels import dither as dithers
from magnetite.core.errors import PictureError
from magnetite.core.methods.amplitudes import Amplitude, BitDepth
from magnetite.core.methods.catalogue import ColourPolicy, degradation
from magnetite.core.methods.parameters import Count

Rule = Literal["mid-tread", "mid-rise"]
Dither = Literal["none", "rectangular", "triangular", "bayer", "blue-noise", "error-diffusion"]
Design = Literal["uniform", "optimal", "lloyd-max"]
#: Expected error power over step²/12 where samples spread evenly over the steps.
_DITHER_POWER = {"none": 1, "rectangular": 2, "triangular": 3, "bayer": 2, "blue-noise": 2}


@dataclass(frozen=True)
class Levels:
    """Evenly spaced levels `first + step k`, k from 0 to count - 1."""

    first: float
    step: float
    count: int

    @classmethod
    def of(cls, rule: Rule, bits: int | None, levels: int | None, step: float | None) -> Levels:
        """The levels on 0..1 that one of bits, levels and step asks for."""
        if step is not None:
            if rule == "mid-tread":
                return cls(0.0, step, math.floor(1 / step + 0.5) + 1)
            return cls(step / 2, step, math.ceil(1 / step - 1e-9))
        number = levels if levels is not None else 2 ** (bits or 0)
        if rule == "mid-tread":
            return cls(0.0, 1 / (number - 1), number)
        return cls(0.5 / number, 1 / number, number)

    def nearest(self, samples: Pixels) -> Pixels:
        """The level nearest to each sample."""
        first, step = (samples.dtype.type(x) for x in (self.first, self.step))

        def work(part: slice) -> None:
            band = samples[part] - first
            band /= step
            np.rint(band, out=band)
            np.clip(band, 0, self.count - 1, out=band)
            band *= step
            np.add(band, first, out=out[part])

        out = np.empty_like(samples)
        spread(work, bands_of(samples))
        return out


def _certify_adapted(
    change: Change, *, bits: int | None, levels: int | None, **_: object
) -> list[Finding]:
    count = Levels.of("mid-tread", bits, levels, None).count
    planes = np.atleast_3d(change.before)
    least = np.stack([optimal(planes[..., k], count) for k in range(planes.shape[2])], axis=2)
    return [
        Finding("levels used", f"of {count} a channel", None, _most_levels(change.drawn)),
        Finding("least rms error possible", "fs", None, rms(least - planes)),
        Finding(
            "rms error", "fs", None, rms(change.drawn - change.before),
            rms(change.stored - change.before),
        ),
    ]  # fmt: skip


def _most_levels(pixels: Pixels) -> int:
    """Different values of the channel that has most of them."""
    planes = np.atleast_3d(pixels)
    return max(len(np.unique(planes[..., k])) for k in range(planes.shape[2]))


def _survey_quantize(
    before: Pixels,
    *,
    bits: int | None,
    levels: int | None,
    step: float | None,
    rule: Rule,
    design: Design,
    dither: Dither,
) -> Survey | None:
    grid = Levels.of(rule, bits, levels, step)
    return None if design != "uniform" else LevelsSurvey(grid, dither)


@dataclass(frozen=True)
class LevelsSurvey:
    """Measurements of rounding to evenly spaced levels."""

    grid: Levels
    dither: Dither

    def of(self, part: Change) -> Float64:
        """Sums of the error, samples beyond the levels, and a histogram of the levels."""
        error = part.drawn - part.before
        first, step, low, high = map(part.before.dtype.type, self._scale)
        outside = np.count_nonzero((part.before < low) | (part.before > high))
        sums = [
            error.size, squares(part.drawn, part.before), squares(part.stored, part.before),
            error.sum(dtype=np.float64), outside,
        ]  # fmt: skip
        drawn = part.drawn.reshape(-1)
        positions = np.rint((drawn - first) / step).astype(np.intp)
        whole = drawn.astype(np.float64)
        sums += [whole.sum(), whole @ positions]
        return np.concatenate([sums, np.bincount(positions, minlength=self.grid.count)])

    def in_one_pass(self, before: Float32, after: Float32, full_scale: np.float32) -> Float64:
        """The same, compiled."""
        from magnetite.core.degrade.kernels.survey_sums import level_sums

        first, step, low, high = map(np.float32, self._scale)
        return level_sums(
            rows(before), rows(after), full_scale, first, step, low, high, self.grid.count
        )

    @property
    def _scale(self) -> tuple[float, float, float, float]:
        """First level, step, and half a step below the first and above the last level."""
        first, step, half = self.grid.first, self.grid.step, self.grid.step / 2
        return first, step, first - half, first + step * (self.grid.count - 1) + half

    def findings(self, sums: Float64) -> list[Finding]:
        """Levels, errors, and the error of samples spread evenly."""
        grid, (count, drawn, kept, shift, outside) = self.grid, sums[:5].tolist()
        findings = [
            Finding("levels used", f"of {grid.count}", None, int(np.count_nonzero(sums[7:]))),
            Finding("step", "fs", grid.step, _slope(float(sums[5]), float(sums[6]), sums[7:])),
            Finding("share beyond the levels", "share", None, outside / count),
        ]
        if self.dither in _DITHER_POWER:
            even = grid.step * math.sqrt(_DITHER_POWER[self.dither] / 12)
            findings.append(Finding("rms error if evenly spread", "fs", None, even))
        rms_error = math.sqrt(drawn / count), math.sqrt(kept / count)
        return [
            *findings, Finding("rms error", "fs", None, *rms_error),
            Finding("mean shift", "fs", None, shift / count),
        ]  # fmt: skip


def _slope(total: float, products: float, counts: Float64) -> float | None:
    """Slope of the levels drawn over their numbers; None where there is one number alone.

    `total` and `products` are the sums of the levels, and of them times their numbers.
    """
    numbers, size = np.arange(counts.size), float(counts.sum())
    first, second = float(counts @ numbers), float(counts @ numbers**2)
    spread = size * second - first**2
    return (size * products - total * first) / spread if spread > 0 else None


def _reach_of_dither(*, dither: Dither, **_: object) -> int | None:
    """Patterns and the diffusion of errors need the whole picture."""
    return 0 if dither in ("none", "rectangular", "triangular") else None


@degradation(
    "quantize",
    summary="Round samples to few levels, evenly spaced or optimal, with or without dither.",
    colour=ColourPolicy.EACH,
    source="Gersho and Gray, Vector Quantization and Signal Compression (1992), chapters 5 and 6; "
    "Lipshitz, Wannamaker and Vanderkooy, J. Audio Engineering Society 40(5), 1992 (dither)",
    one_of=("bits", "levels", "step"),
    certify=_certify_adapted,
    survey=_survey_quantize,
    reach=_reach_of_dither,
    draws_by="shape",
    draws=lambda *, dither, **_: dither in ("rectangular", "triangular"),
    statistics=lambda *, design, **_: design != "uniform",
)
def quantize(
    pixels: Pixels,
    rng: np.random.Generator | None = None,
    *,
    bits: Annotated[int | None, Count(1, 16), "levels as a power of two"] = None,
    levels: Annotated[int | None, Count(2, 65_536), "number of levels"] = None,
    step: Annotated[float | None, Amplitude(1e-5, 1), "distance of two levels"] = None,
    rule: Annotated[Rule, "whether a level lies at 0, or a threshold"] = "mid-tread",
    design: Annotated[Design, "equal steps, or least squared error for this picture"] = "uniform",
    dither: Annotated[
        Dither, "noise or pattern that is added before rounding, and not subtracted afterwards"
    ] = "none",
) -> Pixels:
    """Take the nearest of few levels: `s round(x / s)` (mid-tread), `s (floor(x / s) + 1/2)`.

    With `bits` or `levels`, n levels span 0 to 1: mid-tread with s = 1 / (n - 1), black and full
    scale among them; mid-rise with s = 1 / n, none of them. `optimal` positions n levels where the
    squared error is least for the picture's own histogram, `lloyd-max` where Lloyd's method
    settles, a local optimum. With `step` the last level is the one nearest to full scale, which
    may lie above it. Samples spread evenly over the steps have an error power of s²/12;
    rectangular dither, and the ordered ones, double it, triangular dither triples it, and it no
    longer depends on the signal. The white dithers are one or two steps wide, uniform or
    triangular; the ordered ones Bayer's 8x8 and a blue noise of 64x64; error diffusion is that of
    Floyd and Steinberg. Samples beyond the outermost levels take those; the picture keeps its own
    bit depth. Raises `PictureError` for `optimal` or `lloyd-max` with dither, mid-rise or a step.
    """
    grid = Levels.of(rule, bits, levels, step)
    if design != "uniform":
        if dither != "none" or step is not None or rule != "mid-tread":
            raise PictureError(f"quantize: design={design} takes bits= or levels= and no dither")
        return (optimal if design == "optimal" else lloyd_max)(pixels, grid.count)
    if dither == "error-diffusion":
        return dithers.diffused(pixels, grid.first, grid.step, grid.count)
    return grid.nearest(_dithered(pixels, rng, grid.step, dither))


def _dithered(
    plane: Pixels, rng: np.random.Generator | None, step: float, dither: Dither
) -> Pixels:
    if dither == "none":
        return plane
    pattern: NDArray[np.floating]
    if dither in ("bayer", "blue-noise"):
        pattern = dithers.ordered(dither, plane.shape)
    else:
        rng = rng if rng is not None else np.random.default_rng(0)
        pattern = draw(rng, plane.shape, uniform) - np.float32(0.5)
        if dither == "triangular":
            pattern += draw(rng, plane.shape, uniform) - np.float32(0.5)
    return plane + (step * pattern).astype(plane.dtype)


def _certify_planes(
    change: Change, *, keep: int | None, drop: int | None, fill: str, depth: int
) -> list[Finding]:
    kept = keep if keep is not None else depth - (drop or 0)
    # Evenly spread lower planes: the error is even on their range, about its middle or its top.
    weight = 2 ** (depth - kept)
    even = (
        (weight**2 - 1) / 12
        + ((weight - 1) / 2) ** 2 * (fill == "zero")
        + 0.25 * (fill == "middle") * (weight > 1)
    )
    return [
        Finding("planes kept", f"of {depth}", None, kept),
        Finding("levels used", f"of {2**kept}", None, len(np.unique(change.drawn))),
        Finding("rms error if evenly spread", "fs", None, math.sqrt(even) / (2**depth - 1)),
        Finding(
            "rms error", "fs", None, rms(change.drawn - change.before),
            rms(change.stored - change.before),
        ),
    ]  # fmt: skip


@degradation(
    "bit-planes",
    summary="Keep the most significant bit planes of the samples.",
    colour=ColourPolicy.EACH,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 3.2",
    one_of=("keep", "drop"),
    certify=_certify_planes,
    reach=0,
)
def bit_planes(
    pixels: Pixels,
    *,
    keep: Annotated[int | None, Count(1, 16), "planes kept from the top"] = None,
    drop: Annotated[int | None, Count(0, 15), "planes dropped from the bottom"] = None,
    fill: Annotated[
        Literal["zero", "middle"], "dropped planes: zeros, which darken, or a one and zeros"
    ] = "zero",
    depth: Annotated[int, BitDepth()],
) -> Pixels:
    """Digital numbers with their lowest planes set to 0, or to the middle of their span.

    Raises `PictureError` where more planes are to be kept or dropped than there are.
    """
    kept = keep if keep is not None else depth - (drop or 0)
    if not 1 <= kept <= depth:
        raise PictureError(f"bit-planes: {kept} of {depth} planes cannot be kept")
    dropped = depth - kept
    top = pixels.dtype.type(2**depth - 1)
    numbers = np.rint(pixels.clip(0, 1) * top).astype(np.int32) >> dropped << dropped
    if fill == "middle" and dropped:
        numbers += 1 << (dropped - 1)
    return np.asarray(numbers / top, dtype=pixels.dtype)
