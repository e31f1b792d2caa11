"""Point spread functions: kernels of unit sum, by formula, and their transfer of contrast."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.errors import PictureError

#: Strips into which a pixel is cut where the area of a disk inside it is summed up.
_STRIPS = 64
#: Cycles per px at which contrast is followed.
_FREQUENCY = np.linspace(0, 0.5, 2049)
_REPEATS = 20


def gaussian(sigma: float) -> Float64:
    """Sampled Gaussian of standard deviation `sigma` px, cut at 4.5 sigma, shape (n, n)."""
    line = gaussian_kernel(sigma)
    return np.outer(line, line)


def segment(length: float) -> Float64:
    """Line of weights of a box `length` px wide: the share of it that lies in each pixel.

    Shape (n,), n odd; the outermost pixels of a fractional length hold less.
    """
    reach = max(0, math.ceil(length / 2 - 0.5))
    edges = np.arange(-reach, reach + 2) - 0.5
    inside = np.diff(edges.clip(-length / 2, length / 2))
    return np.asarray(inside / inside.sum())


def box(size: float) -> Float64:
    """Square of side `size` px, shape (n, n)."""
    line = segment(size)
    return np.outer(line, line)


def disk(radius: float) -> Float64:
    """Disk of a radius in px, shape (n, n), n odd: each weight is the disk's area inside the pixel.

    Hopkins, Proc. Royal Society A 231, 1955: the geometrical image of a point out of focus.
    """
    reach = max(0, math.ceil(radius - 0.5))
    if reach == 0:
        return np.ones((1, 1))
    positions = np.arange(-reach, reach + 1)
    offsets = (np.arange(_STRIPS) + 0.5) / _STRIPS - 0.5
    x = (positions[:, np.newaxis] + offsets).ravel()
    half = np.sqrt((radius**2 - x**2).clip(0, None))
    low = (positions[:, np.newaxis] - 0.5).clip(-half, half)
    high = (positions[:, np.newaxis] + 0.5).clip(-half, half)
    area = (high - low).reshape(positions.size, positions.size, _STRIPS).mean(axis=2)
    # Summed over x in strips and over y exactly; the disk is the same either way.
    area = (area + area.T) / 2
    return np.asarray(area / area.sum())


def motion(length: float, angle: float) -> Float64:
    """Straight motion, shape (h, w), both odd: each weight is the path's length inside the pixel.

    `angle` in degrees, counter-clockwise from the x axis; `length` in px.
    """
    turn = math.radians(angle)
    dx, dy = math.cos(turn) * length / 2, -math.sin(turn) * length / 2
    columns = max(0, math.ceil(abs(dx) - 0.5 - 1e-9))
    rows = max(0, math.ceil(abs(dy) - 0.5 - 1e-9))
    # The path runs over t = -1..1 and crosses a pixel's border wherever x or y is a half.
    crossings = [np.array([-1.0, 1.0])]
    for delta, reach in ((dx, columns), (dy, rows)):
        if abs(delta) > 1e-9:
            crossings.append((np.arange(-reach, reach) + 0.5) / delta)
    t = np.unique(np.concatenate(crossings).clip(-1, 1))
    middle = (t[1:] + t[:-1]) / 2
    kernel = np.zeros((2 * rows + 1, 2 * columns + 1))
    row = np.rint(middle * dy).astype(int).clip(-rows, rows) + rows
    column = np.rint(middle * dx).astype(int).clip(-columns, columns) + columns
    np.add.at(kernel, (row, column), np.diff(t))
    return np.asarray(kernel / kernel.sum())


def measured(weights: Float64) -> Float64:
    """A kernel from measured weights, shape (h, w): scaled to unit sum, padded to odd sides.

    Raises
    ------
    PictureError
        If a weight is negative or not finite, or all are 0.
    """
    if not np.isfinite(weights).all() or (weights < 0).any() or not weights.any():
        raise PictureError("a kernel's weights are 0 or larger, and not all 0")
    padded = np.pad(weights, [(0, 1 - n % 2) for n in weights.shape])
    return np.asarray(padded / padded.sum())


@dataclass(frozen=True)
class Shape:
    """Figures of a kernel; lengths in px, frequencies in cycles per px.

    `centroid` is (x, y) from the kernel's middle; `fwhm` and `mtf50` are those along x and y,
    of the kernel's line spread; `mtf50` is None where contrast never falls to half.
    """

    sum: float
    centroid: tuple[float, float]
    fwhm: tuple[float, float]
    mtf50: tuple[float | None, float | None]


def shape_of(kernel: Float64) -> Shape:
    """Measure a kernel as applied, shape (h, w)."""
    lines = kernel.sum(axis=0), kernel.sum(axis=1)
    positions = [np.arange(line.size) - line.size // 2 for line in lines]
    total = float(kernel.sum())
    # To 1e-12 px: smaller differences are rounding.
    x, y = (round(float(a @ b) / total, 12) for a, b in zip(lines, positions, strict=True))
    one, two = lines
    return Shape(total, (x, y), (_fwhm(one), _fwhm(two)), (mtf50(one), mtf50(two)))


def mtf(line: Float64, frequency: Float64) -> Float64:
    """Modulation transfer of weights, shape (n,), at frequencies in cycles per px, shape (m,)."""
    positions = np.arange(line.size) - line.size // 2
    waves = np.exp(-2j * np.pi * np.multiply.outer(frequency, positions))
    return np.asarray(np.abs(waves @ line) / line.sum())


def mtf50(line: Float64) -> float | None:
    """Lowest frequency, c/px, at which contrast falls to half; None up to 1/2. Shape (n,)."""
    return crossing(_FREQUENCY, mtf(line, _FREQUENCY), 0.5)


def theoretical_mtf50(transfer: Callable[[Float64], Float64]) -> float | None:
    """The same of a transfer function after sampling, which repeats it at whole frequencies."""
    shifted = _FREQUENCY[:, np.newaxis] + np.arange(-_REPEATS, _REPEATS + 1)
    contrast = np.abs(transfer(shifted).sum(axis=1))
    return crossing(_FREQUENCY, contrast / contrast[0], 0.5)


def gaussian_transfer(sigma: float) -> Callable[[Float64], Float64]:
    """`exp(-2 π² sigma² f²)`: weights sampled at points."""
    return lambda f: np.exp(-2 * (np.pi * sigma * f) ** 2)


def segment_transfer(length: float) -> Callable[[Float64], Float64]:
    """`sinc(length f) sinc(f)`: a box, each weight its share of a pixel."""
    return lambda f: np.sinc(length * f) * np.sinc(f)


def disk_transfer(radius: float) -> Callable[[Float64], Float64]:
    """`2 J1(2π radius f) / (2π radius f) sinc(f)` along an axis: a disk, seen through pixels."""

    def transfer(f: Float64) -> Float64:
        from scipy.special import j1

        # At 0 the quotient is 1, as it is next to it.
        x = 2 * np.pi * radius * np.where(f == 0, 1e-9, f)
        x = np.where(x == 0, 1e-12, x)
        return np.asarray(2 * j1(x) / x * np.sinc(f))

    return transfer


def crossing(x: Float64, y: Float64, level: float) -> float | None:
    """First x where y, both of shape (n,), falls below a level, on straight lines; or None."""
    below = np.flatnonzero(y < level)
    if below.size == 0:
        return None
    i = int(below[0])
    if i == 0:
        return float(x[0])
    return float(x[i - 1] + (y[i - 1] - level) / (y[i - 1] - y[i]) * (x[i] - x[i - 1]))


def _fwhm(line: Float64) -> float:
    """Full width at half of the maximum, between weights on straight lines."""
    padded = np.pad(line, 1)
    half = padded.max() / 2
    above = np.flatnonzero(padded >= half)
    first, last = int(above[0]), int(above[-1])
    left = first - (padded[first] - half) / (padded[first] - padded[first - 1])
    right = last + (padded[last] - half) / (padded[last] - padded[last + 1])
    return float(right - left)
