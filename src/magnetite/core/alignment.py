"""Find how far one picture is shifted against another, and take the shift away."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from magnetite.core.errors import PictureError
from magnetite.core.parallel import threads
from magnetite.core.picture import Picture
from magnetite.core.region import Region

Array = NDArray[np.float64]

#: Phases count with Gaussian weights over frequency, of this sd in cycles per px: high ones hold
#: noise. The peak of their correlation is then a Gaussian too, of sd 1 / (2 pi) of it.
_BANDWIDTH = 0.12
#: Least height of that peak, of what a mere shift gives, and of its neighbourhood's noise.
_LEAST_PEAK = 0.05
#: A shift this near to whole px is taken as whole, and nothing is interpolated.
WHOLE = 0.03
_STEPS = np.array([-1, 0, 1])
#: Samples along the edges that interpolation cannot be trusted with.
_MARGIN = 8


class Shift(NamedTuple):
    """How far the test lies to the right of the reference, and below it, px."""

    right: float
    down: float

    def __str__(self) -> str:
        sides = (self.right, "right", "left"), (self.down, "down", "up")
        return ", ".join(
            f"{abs(value):.2f} px {forth if value > -0.005 else back}"
            for value, forth, back in sides
        )


@dataclass(frozen=True)
class Alignment:
    """Both pictures where they show the same, the region of the reference, and the shift."""

    reference: Picture
    test: Picture
    region: Region
    shift: Shift


def aligned(reference: Picture, test: Picture) -> Alignment:
    """Take the shift of a test picture away and crop both to what they have in common.

    A shift of whole px (within 0.03) only crops. Any other interpolates the test by splines of
    the fifth order, rounds to its bit depth, and leaves out 8 px more along the edges.

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


def _plane(picture: Picture) -> Array:
    samples = picture.on_scale(1.0)
    return samples if samples.ndim == 2 else np.asarray(samples.mean(axis=2))


def _common(picture: Picture, whole: tuple[int, int], margin: int) -> Region:
    """Where the reference shows what the shifted test does, less a margin."""
    left, top = (max(0, -by) + margin for by in whole)
    width = picture.width - abs(whole[0]) - 2 * margin
    height = picture.height - abs(whole[1]) - 2 * margin
    if min(width, height) < 1:
        raise PictureError(
            f"{picture.origin}: a shift of {whole[0]}, {whole[1]} px leaves nothing to compare"
        )
    return Region(left, top, width, height)


def _interpolated(picture: Picture, rest: tuple[float, float]) -> Picture:
    from scipy.ndimage import shift

    pixels = picture.pixels().astype(np.float64)
    by = (-rest[1], -rest[0]) + (0.0,) * (pixels.ndim - 2)
    return picture.with_pixels(shift(pixels, by, order=5, mode="mirror"))[0]


def find_shift(reference: Array, test: Array) -> Shift:
    """Shift of one plane against another by phase correlation, to some hundredths of a px.

    Kuglin and Hines, IEEE Int. Conf. Cybernetics and Society, 1975: the transform of the
    normalised cross-power spectrum peaks at the shift. With Gaussian weights the peak is a
    Gaussian, so that the logarithms of it and its neighbours give its place between samples.
    The whole px are taken away and the rest is measured again on what both show.

    Raises
    ------
    PictureError
        If the planes are smaller than 32x32, or the peak does not stand out.
    """
    if min(reference.shape) < 32:
        raise PictureError("a shift is found in pictures of at least 32x32 px; these are smaller")
    down, across = 0.0, 0.0
    for _ in range(3):
        i, j = round(down), round(across)
        height, width = reference.shape[0] - abs(i), reference.shape[1] - abs(j)
        if min(height, width) < 32:
            raise PictureError("the pictures have too little in common to find their shift")
        here = reference[max(0, -i) :, max(0, -j) :][:height, :width]
        there = test[max(0, i) :, max(0, j) :][:height, :width]
        if min(float(here.std()), float(there.std())) < 1e-9:
            raise PictureError("no common shift was found: one of the pictures is flat")
        rest = _peak(here, there)
        down, across = i + rest[0], j + rest[1]
    return Shift(round(across, 4) + 0.0, round(down, 4) + 0.0)


def _peak(reference: Array, test: Array) -> tuple[float, float]:
    """Place of the correlation's peak, rows and columns, between samples."""
    from scipy.fft import irfft2, rfft2

    height, width = reference.shape
    window = np.outer(np.hanning(height + 2)[1:-1], np.hanning(width + 2)[1:-1])
    one, two = (rfft2((p - p.mean()) * window, workers=threads()) for p in (reference, test))
    cross = two * one.conj()
    strength = np.abs(cross)
    fy, fx = np.fft.fftfreq(height)[:, np.newaxis], np.fft.rfftfreq(width)[np.newaxis]
    weights = np.exp(-(fy * fy + fx * fx) / (2 * _BANDWIDTH**2))
    phases = cross / (strength + 1e-12 * float(strength.max()) + 1e-30)
    correlation = irfft2(phases * weights, s=reference.shape, workers=threads())
    i, j = np.unravel_index(int(correlation.argmax()), correlation.shape)
    top = float(correlation[i, j])
    if top < _LEAST_PEAK * 2 * math.pi * _BANDWIDTH**2:
        raise PictureError("no common shift was found: the pictures do not show the same")
    around = correlation[np.ix_((i + _STEPS) % height, (j + _STEPS) % width)]
    down, across = _top(around)
    return (
        (i + height // 2) % height - height // 2 + down,
        (j + width // 2) % width - width // 2 + across,
    )


def _top(around: Array) -> tuple[float, float]:
    """Place of a Gaussian's top, of any tilt, from its values at 3x3 samples about the largest.

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
