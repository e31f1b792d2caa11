"""Tone response of a camera from the gray steps (ISO 14524:2009), apart from its fall-off."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from magnetite.core.arrays import Bools, Float64
from magnetite.core.calibrate.fitting import Estimate
from magnetite.core.chart.correlation import detrended, variance_of_means
from magnetite.core.chart.design import Chart, Patch
from magnetite.core.chart.exposure import CLIPPED, clipped_samples, is_clipped
from magnetite.core.chart.falloff import Falloff, background_patches
from magnetite.core.chart.mapping import Mapping
from magnetite.core.degrade.light import standard_decoding
from magnetite.core.errors import PictureError

#: Share of a patch's side that is measured, and smallest side of that, px.
_INNER, _LEAST = 0.62, 6
#: Deviation from a straight line up to which the response is linear: a share of the light, and
#: standard errors.
_STRAIGHT, _ERRORS = 0.01, 4.0
#: Deviation of the steps from a stated response that is noted, a share of the light.
_CONTRADICTS = 0.05
#: Why a step is left out of a curve.
_NOT_BRIGHTER = "not brighter than a darker one"
#: Rounds of tone response and fall-off in turn.
_ROUNDS = 6
#: Steps that it takes.
_LEAST_STEPS = 4

#: Light, 1 for white, of samples in full-scale units.
Decoder = Callable[[Float64], Float64]


@dataclass(frozen=True)
class Level:
    """Samples of a patch: shape (n, m, channels), full-scale units."""

    patch: Patch
    samples: Float64

    @property
    def mean(self) -> Float64:
        """Mean of each channel."""
        return np.asarray(self.samples.mean(axis=(0, 1)))

    @property
    def error(self) -> Float64:
        """Standard error of each channel's mean, for white noise."""
        count = self.samples.shape[0] * self.samples.shape[1]
        return np.asarray(self.samples.std(axis=(0, 1)) / math.sqrt(count))

    def clipped(self, rounding: float) -> bool:
        """Whether samples reach the ends of the scale."""
        return is_clipped(clipped_samples(self.samples, rounding))


#: Error of the slope (-3 a + 4 b - c) / 2 of three even steps, over that of b - a.
_END_SLOPE = math.sqrt((9 + 16 + 1) / 4 / 2)
#: Rounds in which the curve is freed of the bias of noise.
_UNBIASING_ROUNDS = 3


@dataclass(frozen=True)
class Tone:
    """The tone response: levels of the steps, and the light of samples by it."""

    #: "linear", "srgb", "bt709" or "measured".
    kind: str
    light: Float64
    level: Float64
    decoders: tuple[Decoder, ...]
    #: For linear responses: level without light, and level for each unit of light, by channel.
    black: Float64 | None
    gain: Float64 | None
    #: That of the mean of the channels.
    black_level: Estimate | None
    #: Standard errors of the levels by channel.
    level_error: Float64
    #: Variance of the mean of a patch over that in white noise.
    shared: float
    #: Whether the gray steps contradict the response that was stated.
    contradicted: bool = False

    def decode(self, samples: Float64) -> Float64:
        """Light of samples, last axis the channels."""
        decoded = [decoder(samples[..., c]) for c, decoder in enumerate(self.decoders)]
        return np.stack(decoded, axis=-1)

    def drawn_error(self, levels: Float64, rng: np.random.Generator) -> Float64:
        """Errors of the response at levels of each channel, shape (n, channels), as one draw.

        Those of the steps, between them on straight lines: a straight response errs less.
        """
        steps = self.level_error * rng.normal(size=self.level_error.shape)
        order = np.argsort(self.light)
        return np.stack(
            [
                np.interp(levels[:, c], self.level[order, c], steps[order, c])
                for c in range(levels.shape[1])
            ],
            axis=1,
        )

    def slope_error(self, levels: Float64) -> Float64:
        """Relative standard error of the slope at the levels of each channel.

        That of the chord between the neighbouring steps, and at the ends of the three last ones;
        0 for responses of a known form.
        """
        if self.kind != "measured":
            return np.zeros_like(levels)
        order = np.argsort(self.light)
        level, error = (np.pad(a[order], ((1, 1), (0, 0)), "edge")
                        for a in (self.level, self.level_error))  # fmt: skip
        chords = np.hypot(error[2:], error[:-2]) / (level[2:] - level[:-2])
        chords[[0, -1]] *= _END_SLOPE
        return np.array(
            [np.interp(levels[c], self.level[order, c], chords[:, c]) for c in range(levels.size)]
        )

    def slope(self, levels: Float64) -> Float64:
        """Light per unit of sample value at the levels of each channel."""
        step = 1e-4
        return (self.decode(levels + step) - self.decode(levels - step)) / (2 * step)


def samples_of(pixels: Float64, patch: Patch, mapping: Mapping) -> Float64 | None:
    """The middle of a patch, shape (n, m, channels); None where it leaves the picture."""
    middle = np.array([patch.x, patch.y])
    centre, turn = mapping(middle), abs(mapping.turn(middle))
    side = _INNER * patch.side * mapping.scale(middle) / (math.cos(turn) + math.sin(turn))
    left, top = np.rint(centre - side / 2).astype(int)
    right, bottom = np.rint(centre + side / 2).astype(int)
    inside = min(left, top) >= 0 and right <= pixels.shape[1] and bottom <= pixels.shape[0]
    if not inside or min(right - left, bottom - top) < _LEAST:
        return None
    return pixels[top:bottom, left:right]


def measure_tone(
    pixels: Float64, chart: Chart, mapping: Mapping, kind: str, rounding: float
) -> tuple[Tone, Falloff, list[str]]:
    """Tone response and fall-off, each with the other removed, in turn.

    Parameters
    ----------
    pixels : float array, shape (h, w, channels), full-scale units
    chart : Chart
    mapping : Mapping
    kind : "measured", "linear", "srgb" or "bt709"
        "measured" takes the response from the steps: a straight line if they follow one within 1 %,
        else a monotone cubic for each channel.
    rounding : float
        Distance of neighbouring sample values, 0 for float.

    Returns
    -------
    Tone, Falloff, list of str
        The last are notes on steps that were left out.

    Raises
    ------
    PictureError
        If fewer than four steps can be used.
    """
    height, width = pixels.shape[:2]
    levels, rising, notes = _usable_steps(pixels, chart, mapping, rounding)
    centres = np.array([mapping(np.array([one.patch.x, one.patch.y])) for one in levels])
    seen = [
        Level(patch, samples)
        for patch in background_patches(chart)
        if (samples := samples_of(pixels, patch, mapping)) is not None
    ]
    grounds = [one for one in seen if not one.clipped(rounding)]
    if len(grounds) < len(seen):
        words = f"parts of the background left out of the fall-off: {CLIPPED}"
        notes.append(f"{len(seen) - len(grounds)} of {len(seen)} {words}")
    points = np.array([mapping(np.array([one.patch.x, one.patch.y])) for one in grounds])
    ground = np.array([one.mean for one in grounds])
    falloff = Falloff(np.zeros(4), width, height)
    shared = variance_of_means(
        detrended(one.samples[..., c]) for one in levels for c in range(pixels.shape[2])
    )
    for _ in range(_ROUNDS):
        light = np.array([one.patch.light[0] for one in levels]) * falloff.at(centres)
        tone = _tone_of(levels, light, rising, kind, shared)
        if len(points) < 8:
            notes.append("too little background is seen to measure the fall-off: none is assumed")
            break
        decoded = tone.decode(ground)
        relative = (decoded / decoded.mean(axis=0)).mean(axis=1)
        falloff = Falloff.fitted(points, relative, width, height)
    if kind != "measured" and (off := _contradicted(tone)):
        tone = replace(tone, contradicted=True)
        notes.append(
            f"{off} of {len(tone.light)} gray steps are more than {100 * _CONTRADICTS:g} % off "
            f"the stated tone response, {tone.kind}: all figures in linear light depend on it"
        )
    if tone.kind == "measured" and not rising.all():
        notes.append(_left_out(int((~rising).sum()), len(chart.steps), _NOT_BRIGHTER))
    return tone, falloff, notes


def _contradicted(tone: Tone) -> int:
    """Number of gray steps that do not follow the response that was stated."""
    light = tone.light[:, np.newaxis]
    error = np.abs(np.array([tone.slope(one) for one in tone.level])) * tone.level_error
    away = np.abs(tone.decode(tone.level) - light)
    off = (away > np.maximum(_CONTRADICTS * light, _ERRORS * error)).any(axis=1)
    return int(off.sum())


def _usable_steps(
    pixels: Float64, chart: Chart, mapping: Mapping, rounding: float
) -> tuple[list[Level], Bools, list[str]]:
    """Steps inside the picture, not clipped, and which are brighter than the one before.

    The darkest comes first. A straight line takes all: those that noise made darker as well.
    """
    notes: list[str] = []
    levels: list[Level] = []
    rising: list[bool] = []
    clipped = outside = 0
    last: Level | None = None
    for patch in sorted(chart.steps, key=lambda step: step.light):
        samples = samples_of(pixels, patch, mapping)
        if samples is None:
            outside += 1
            continue
        level = Level(patch, samples)
        if level.clipped(rounding):
            clipped += 1
            continue
        levels.append(level)
        rising.append(last is None or _brighter(level, last))
        last = level if rising[-1] else last
    for count, words in ((outside, "outside the picture or too small"), (clipped, CLIPPED)):
        if count:
            notes.append(_left_out(count, len(chart.steps), words))
    if sum(rising) < _LEAST_STEPS:
        hidden = len(rising) - sum(rising)
        said = [*notes, *([_left_out(hidden, len(chart.steps), _NOT_BRIGHTER)] if hidden else [])]
        raise PictureError(
            f"only {sum(rising)} gray steps can be used ({'; '.join(said)}): expose the chart so "
            f"that at least {_LEAST_STEPS} are neither clipped nor lost in noise"
        )
    return levels, np.array(rising), notes


def _left_out(count: int, total: int, words: str) -> str:
    return f"{count} of {total} gray steps left out: {words}"


def _brighter(one: Level, other: Level) -> bool:
    return bool(((one.mean - other.mean) > 2 * np.hypot(one.error, other.error)).all())


def _tone_of(levels: list[Level], light: Float64, rising: Bools, kind: str, shared: float) -> Tone:
    level = np.array([one.mean for one in levels])
    error = math.sqrt(shared) * np.array([one.error for one in levels])
    if kind in ("linear", "measured"):
        black, gain, _ = _straight(light, level, error)
        away = np.abs(level - black - gain * light[:, np.newaxis])
        allowed = np.maximum(_STRAIGHT * gain * light[:, np.newaxis], _ERRORS * error)
        if kind == "linear" or bool((away <= allowed).all()):
            decoders = tuple(_line(float(b), float(g)) for b, g in zip(black, gain, strict=True))
            middle = _black_level(levels, light, shared)
            return Tone("linear", light, level, decoders, black, gain, middle, error, shared)
        kept = [one.samples for one, rises in zip(levels, rising, strict=True) if rises]
        light, level, error = light[rising], level[rising], error[rising]
        decoders = tuple(
            _unbiased_curve(light, level[:, c], [samples[..., c] for samples in kept])
            for c in range(level.shape[1])
        )
        return Tone("measured", light, level, decoders, None, None, None, error, shared)
    standard = standard_decoding("srgb" if kind == "srgb" else "bt709")
    scale = np.median(standard(level) / light[:, np.newaxis], axis=0)
    scaled = tuple(_scaled(standard, float(factor)) for factor in scale)
    return Tone(kind, light, level, scaled, None, None, None, error, shared)


def _black_level(levels: list[Level], light: Float64, shared: float) -> Estimate:
    """Level without light of the mean of the channels, whose noise may be shared."""
    means = [Level(one.patch, one.samples.mean(axis=2, keepdims=True)) for one in levels]
    level, error = (np.array([getattr(one, k) for one in means]) for k in ("mean", "error"))
    black, _, black_error = _straight(light, level, error)
    return Estimate.of(float(black[0]), math.sqrt(shared) * float(black_error[0]))


def _straight(light: Float64, level: Float64, error: Float64) -> tuple[Float64, Float64, Float64]:
    """Black level, gain and error of the black level of each channel.

    Weighted so that all steps count by their shares.
    """
    black, gain, black_error = (np.empty(level.shape[1]) for _ in range(3))
    for c in range(level.shape[1]):
        weight = 1 / np.hypot(error[:, c], 0.003 * level[:, c] + 1e-6)
        design = np.stack([np.ones_like(light), light], axis=1) * weight[:, np.newaxis]
        black[c], gain[c] = np.linalg.lstsq(design, level[:, c] * weight, rcond=None)[0]
        # The weights serve the fit; the levels err by their noise.
        share = np.linalg.pinv(design)[0] * weight
        black_error[c] = math.sqrt(float(share**2 @ error[:, c] ** 2))
    if not (gain > 0).all():
        raise PictureError("the gray steps do not become brighter: is the chart another one?")
    return black, gain, black_error


def _line(black: float, gain: float) -> Decoder:
    return lambda samples: (samples - black) / gain


def _scaled(standard: Decoder, factor: float) -> Decoder:
    return lambda samples: standard(samples) / factor


def _unbiased_curve(light: Float64, level: Float64, samples: list[Float64]) -> Decoder:
    """The curve by which the mean light of each step's samples is the step's.

    Of noisy samples that is not the light of their mean, since the curve bends.
    """
    knots = light
    for _ in range(_UNBIASING_ROUNDS):
        decode = _curve(knots, level)
        found = np.array([decode(step).mean() for step in samples])
        knots = np.maximum.accumulate(np.maximum(knots + light - found, 0))
    return _curve(knots, level)


def _curve(light: Float64, level: Float64) -> Decoder:
    """Monotone cubic through the roots of light, which tone curves follow more evenly than light.

    Beyond the ends it goes straight on, and never below 0.
    """
    from scipy.interpolate import PchipInterpolator

    spline = PchipInterpolator(level, np.sqrt(light))
    first, last = float(level[0]), float(level[-1])
    below, above = spline.derivative()([first, last])

    def decode(samples: Float64) -> Float64:
        root = spline(samples.clip(first, last))
        root = root + above * np.maximum(samples - last, 0)
        root = root - below * np.maximum(first - samples, 0)
        return np.asarray(np.maximum(root, 0) ** 2)

    return decode
