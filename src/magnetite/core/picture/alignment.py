"""Find how far one picture is shifted against another, and undo the shift."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.compute.threads import threads
from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture
from magnetite.core.picture.region import Region
from magnetite.core.solve.bisection import zero

#: Phases count with Gaussian weights over frequency, of this sd in cycles per px: high ones hold
#: noise. The peak of their correlation is then a Gaussian too, of sd 1 / (2 pi) of it.
_BANDWIDTH = 0.12
#: Least height of that peak, in sd of the correlation away from it: of the whole pictures and of
#: their halves; and for each root of a sample, which is a tenth of the peak of a mere shift.
_LEAST_PEAK, _LEAST_HALF_PEAK, _LEAST_PEAK_PER_ROOT = 7.0, 5.0, 0.0425
#: Samples this near to the peak belong to it; halves must agree with the whole to this.
_PEAK_RADIUS, _AGREE = 8.0, 2.0
#: Samples of both planes are smoothed by a Gaussian of this sd, px, and compared this far from the
#: edges; residuals within tiles of this side may correlate.
_SMOOTHING, _REFINED_MARGIN, _TILE = 1.0, 8, 16
#: A shift that may err by more than this (95 %) is not a result, px.
MOST_ERROR = 1.0
#: Most steps of least squares, and largest distance from the peak, px.
_STEPS_OF_LEAST_SQUARES, _FAR = 6, 3.0
#: Sd of the error by interpolation, px; least contrast between the planes that a step trusts.
_INTERPOLATION_ERROR, _LEAST_CONTRAST = 0.0015, 0.05
#: A shift this near to whole px is taken as whole, and nothing is interpolated.
WHOLE = 0.03
_SMALLEST = 32
_UNLIKE = "no common shift was found: the pictures do not show the same"
_STEPS = np.array([-1, 0, 1])
#: Samples along the edges that interpolation cannot be trusted with.
_MARGIN = 8


class Shift(NamedTuple):
    """How far the test lies to the right of the reference, and below it, px.

    `error` is half the width of an interval that holds both in 95 % of all cases.
    """

    right: float
    down: float
    error: float = 0.0

    def __str__(self) -> str:
        sides = (self.right, "right", "left"), (self.down, "down", "up")
        words = ", ".join(
            f"{abs(value):.2f} px {forth if value > -0.005 else back}"
            for value, forth, back in sides
        )
        return f"{words} (± {self.error:.2f} px)"


@dataclass(frozen=True)
class Alignment:
    """Both pictures where they show the same, the region of the reference, and the shift."""

    reference: Picture
    test: Picture
    region: Region
    shift: Shift


def aligned(reference: Picture, test: Picture) -> Alignment:
    """Undo the shift of a test picture and crop both to their common part.

    A shift of whole px (within 0.03) only crops. Any other moves the phases of the test's
    spectrum, which keeps the power of noise, rounds to its bit depth, and leaves out 8 px more
    along the edges.

    Parameters
    ----------
    reference, test : Picture
        Of the same size and colour.

    Raises
    ------
    PictureError
        If no common shift shows, or nothing would be left.
    """
    shift = find_shift(_plane(reference), _plane(test))
    whole = round(shift.right), round(shift.down)
    rest = shift.right - whole[0], shift.down - whole[1]
    moved = max(map(abs, rest)) > WHOLE
    margin = _MARGIN if moved else 0
    region = _common(reference, whole, margin)
    if moved:
        test = _interpolated(test, rest)
    there = Region(region.left + whole[0], region.top + whole[1], region.width, region.height)
    return Alignment(region.crop(reference), there.crop(test), region, shift)


def _plane(picture: Picture) -> Float64:
    samples = picture.on_scale(1.0)
    return samples if samples.ndim == 2 else np.asarray(samples.mean(axis=2))


def _common(picture: Picture, whole: tuple[int, int], margin: int) -> Region:
    """Part of the reference that the shifted test shows too, less a margin."""
    left, top = (max(0, -by) + margin for by in whole)
    width = picture.width - abs(whole[0]) - 2 * margin
    height = picture.height - abs(whole[1]) - 2 * margin
    if min(width, height) < 1:
        raise PictureError(
            f"{picture.origin}: a shift of {whole[0]}, {whole[1]} px leaves nothing to compare"
        )
    return Region(left, top, width, height)


def _interpolated(picture: Picture, rest: tuple[float, float]) -> Picture:
    """The picture moved back by parts of a px, every frequency in phase alone.

    Interpolation by splines is a low-pass filter halfway between samples: it would reduce noise
    and raise scores.
    """
    from scipy.fft import irfft, rfft

    pixels = picture.pixels().astype(np.float64)
    for axis, by in ((0, rest[1]), (1, rest[0])):
        count = pixels.shape[axis]
        mirrored = np.concatenate([pixels, np.flip(pixels, axis)], axis=axis)
        spectrum = rfft(mirrored, axis=axis, workers=threads())
        phase = np.exp(2j * np.pi * np.fft.rfftfreq(2 * count) * by)
        phase[-1] = 1.0  # the highest frequency has no phase: its power is kept
        turned = spectrum * phase.reshape(-1, *(1,) * (pixels.ndim - 1 - axis))
        whole = irfft(turned, 2 * count, axis=axis, workers=threads())
        pixels = np.take(whole, np.arange(count), axis=axis)
    return picture.with_pixels(pixels)[0]


def find_shift(reference: Float64, test: Float64) -> Shift:
    """Shift of one plane against another by phase correlation, to some hundredths of a px.

    Kuglin and Hines, IEEE Int. Conf. Cybernetics and Society, 1975: the transform of the
    normalised cross-power spectrum peaks at the shift. With Gaussian weights the peak is a
    Gaussian, so that the logarithms of it and its neighbours give its position between samples.
    The whole px are removed and the rest is measured again on the common part. A peak counts
    if it stands out from the correlation elsewhere by 7 sd, and by 10 % of the peak of a mere
    shift, and if either half of the pictures has one at the same position. The position is then
    refined by least squares (see `_refined`), which also gives the interval.

    Raises
    ------
    PictureError
        If the planes are smaller than 32x32, the peak does not stand out, or its position may err
        by more than 1 px.
    """
    if min(reference.shape) < _SMALLEST:
        raise PictureError("a shift is found in pictures of at least 32x32 px; these are smaller")
    down, across = 0.0, 0.0
    for attempt in range(3):
        i, j = round(down), round(across)
        here, there = _shared(reference, test, i, j)
        peak = _peak(here, there, None if attempt == 0 else _AGREE)
        down, across = i + peak.down, j + peak.across
    if peak.height < max(_LEAST_PEAK, _LEAST_PEAK_PER_ROOT * math.sqrt(here.size)):
        raise PictureError(_UNLIKE)
    _check_halves(here, there)
    rest = _refined(here, there, (down - i, across - j))
    away = max(abs(i + rest.down - down), abs(j + rest.across - across))
    if rest.error > MOST_ERROR or away > _FAR:
        raise PictureError(
            "the shift cannot be measured within 1 px: the pictures are too smooth or too noisy"
        )
    return Shift(
        round(j + rest.across, 4) + 0.0, round(i + rest.down, 4) + 0.0, round(rest.error, 4)
    )


def _shared(reference: Float64, test: Float64, down: int, across: int) -> tuple[Float64, Float64]:
    """Common part of both planes, given the shift in whole px."""
    height, width = reference.shape[0] - abs(down), reference.shape[1] - abs(across)
    if min(height, width) < _SMALLEST:
        raise PictureError(_UNLIKE)
    here = reference[max(0, -down) :, max(0, -across) :][:height, :width]
    there = test[max(0, down) :, max(0, across) :][:height, :width]
    if min(float(here.std()), float(there.std())) < 1e-9:
        raise PictureError("no common shift was found: one of the pictures is flat")
    return here, there


def _check_halves(here: Float64, there: Float64) -> None:
    """Raise `PictureError` unless both halves of the planes have a peak at no shift."""
    axis = 0 if here.shape[0] >= here.shape[1] else 1
    for one, two in zip(*(np.array_split(p, 2, axis) for p in (here, there)), strict=True):
        least = max(_LEAST_HALF_PEAK, _LEAST_PEAK_PER_ROOT * math.sqrt(one.size))
        if _peak(one, two, _AGREE).height < least:
            raise PictureError(_UNLIKE)


class _Rest(NamedTuple):
    """A shift below a px, rows and columns, and half its 95 % interval, the larger of both."""

    down: float
    across: float
    error: float


def _refined(here: Float64, there: Float64, start: tuple[float, float]) -> _Rest:
    """The shift at which the planes differ least, but for contrast and brightness.

    Gauss-Newton steps of least squares (Lucas and Kanade, IJCAI 1981).

    The power of the slopes, which says how much a shift changes the residual, is that of the
    products of both planes' slopes: their noise is independent, and squares would count it. The
    interval is by the covariance of sums over tiles, within which residuals may correlate (White,
    Econometrica 48(4), 1980).
    """
    from scipy.ndimage import gaussian_filter, shift

    one, two = (gaussian_filter(p, _SMOOTHING, mode="mirror") for p in (here, there))
    inner = (slice(_REFINED_MARGIN, -_REFINED_MARGIN),) * 2
    position = np.array(start)
    own = [np.gradient(one, axis=axis)[inner].ravel() for axis in (0, 1)]
    flat = one[inner].ravel() - one[inner].mean()
    for _ in range(_STEPS_OF_LEAST_SQUARES):
        moved = shift(two, -position, order=3, mode="mirror")
        values = moved[inner].ravel() - moved[inner].mean()
        contrast = max(_LEAST_CONTRAST, float(flat @ values) / float(flat @ flat))
        theirs = [np.gradient(moved, axis=axis)[inner].ravel() for axis in (0, 1)]
        crossed = np.stack(own) @ np.stack(theirs).T
        power = (crossed + crossed.T) / 2
        if np.linalg.eigvalsh(power)[0] <= 0:
            return _Rest(*start, math.inf)
        mean_slopes = np.stack([(a + b / contrast) / 2 for a, b in zip(own, theirs, strict=True)])
        residual = values - contrast * flat
        step = np.linalg.solve(power, mean_slopes @ residual)
        position = position - step.clip(-1, 1)
    tiles = _tile_sums(mean_slopes * residual, one[inner].shape)
    inverse = np.linalg.inv(power)
    covariance = inverse @ (tiles @ tiles.T) @ inverse
    sds = np.sqrt(np.diag(covariance) + _INTERPOLATION_ERROR**2)
    return _Rest(float(position[0]), float(position[1]), _reach(sds, max(1, tiles.shape[1] - 4)))


def _reach(sds: Float64, freedom: int) -> float:
    """Half-width of the interval that holds the errors of all axes in 95 % of all cases."""
    from scipy.special import stdtr, stdtrit

    def held(reach: float) -> float:
        return float(np.prod(2 * stdtr(freedom, reach / sds) - 1)) - 0.95

    each = float(stdtrit(freedom, 0.9875)) * float(sds.max())  # at least 95 % by Bonferroni
    return zero(held, 0.0, each, 1e-9 * each)


def _tile_sums(rows: Float64, shape: tuple[int, ...]) -> Float64:
    """Sums of each row's samples, which are those of a plane, over its tiles."""
    planes = rows.reshape(-1, *shape)
    starts = [np.arange(0, side, _TILE) for side in shape]
    sums = np.add.reduceat(np.add.reduceat(planes, starts[0], axis=1), starts[1], axis=2)
    return np.asarray(sums.reshape(len(rows), -1))


class _Peak(NamedTuple):
    """Position of a peak between samples, and its height in sd of the samples away from it."""

    down: float
    across: float
    height: float


def _peak(reference: Float64, test: Float64, within: float | None) -> _Peak:
    """The correlation's peak, anywhere or within some px of no shift."""
    from scipy.fft import irfft2, rfft2

    height, width = reference.shape
    window = np.outer(np.hanning(height + 2)[1:-1], np.hanning(width + 2)[1:-1])
    one, two = (
        rfft2((p - float(np.vdot(p, window)) / window.sum()) * window, workers=threads())
        for p in (reference, test)
    )
    cross = two * one.conj()
    strength = np.abs(cross)
    fy, fx = np.fft.fftfreq(height)[:, np.newaxis], np.fft.rfftfreq(width)[np.newaxis]
    weights = np.exp(-(fy * fy + fx * fx) / (2 * _BANDWIDTH**2))
    phases = cross / (strength + 1e-12 * float(strength.max()) + 1e-30)
    correlation = irfft2(phases * weights, s=reference.shape, workers=threads())
    searched = correlation
    if within is not None:
        searched = np.where(_distance(correlation, 0, 0) <= within, correlation, -np.inf)
    i, j = (int(k) for k in np.unravel_index(int(searched.argmax()), correlation.shape))
    elsewhere = correlation[_distance(correlation, i, j) > _PEAK_RADIUS]
    noise = math.sqrt(float(np.vdot(elsewhere, elsewhere)) / max(1, elsewhere.size))
    around = correlation[np.ix_((i + _STEPS) % height, (j + _STEPS) % width)]
    down, across = _top(around)
    return _Peak(
        (i + height // 2) % height - height // 2 + down,
        (j + width // 2) % width - width // 2 + across,
        float(correlation[i, j]) / max(noise, 1e-30),
    )


def _distance(correlation: Float64, row: int, column: int) -> Float64:
    """From every sample to one, px, the correlation being periodic."""
    down, across = (
        (np.arange(n) - at + n // 2) % n - n // 2
        for n, at in zip(correlation.shape, (row, column), strict=True)
    )
    return np.asarray(np.hypot(down[:, np.newaxis], across[np.newaxis]))


def _top(around: Float64) -> tuple[float, float]:
    """Position of a Gaussian's top, of any tilt, from its values at 3x3 samples about the largest.

    The least-squares quadric of their logarithms; the middle where they are no Gaussian's.
    """
    if around.min() <= 0:
        return 0.0, 0.0
    z, k = np.log(around), _STEPS
    slope = (k @ z).sum() / 6, (z @ k).sum() / 6
    bend = (k * k - 2 / 3) @ z, z @ (k * k - 2 / 3)
    rows, columns, both = bend[0].sum(), bend[1].sum(), k @ z @ k / 4
    determinant = rows * columns - both * both
    if determinant <= 0:
        return 0.0, 0.0
    down = (both * slope[1] - columns * slope[0]) / determinant
    across = (both * slope[0] - rows * slope[1]) / determinant
    return float(np.clip(down, -1, 1)), float(np.clip(across, -1, 1))
