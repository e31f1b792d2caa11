"""Wavelet transforms by lifting: Haar, 5/3 (whole numbers) and 9/7.

Sources: Sweldens, SIAM J. Mathematical Analysis 29(2), 1998, doi:10.1137/S0036141095289051;
ISO/IEC 15444-1, annex F (the 5/3 and 9/7 filters; signals are extended by mirroring about their
end samples).
"""

from __future__ import annotations

from typing import Any, Literal

import numpy as np

from magnetite.core.arrays import Samples
from magnetite.core.compute.bands import on_bands

Filter = Literal["haar", "5/3", "9/7"]

#: Steps of the 9/7 filter: predict, update, predict, update (ISO/IEC 15444-1, table F.4).
_STEPS_97 = (-1.586134342059924, -0.052980118572961, 0.882911075530934, 0.443506852043971)
#: Scale of the low half that makes the 9/7 filter nearly orthonormal: √2 / 1.230174104914001.
_SCALE_97 = 1.149604398860241
#: L2 norms of the synthesis functions of a low and a high band along one axis, levels 1 to 8:
#: the error that one unit of error in a number makes. Each level of 5/3 beyond has √2 of the last.
_NORMS: dict[Filter, tuple[tuple[float, ...], tuple[float, ...]]] = {
    "haar": ((1.0,) * 8, (1.0,) * 8),
    "9/7": (
        (0.99144, 1.01519, 1.02572, 1.02882, 1.02964, 1.02984, 1.02990, 1.02991),
        (1.02002, 0.98347, 1.01962, 1.03688, 1.04204, 1.04340, 1.04374, 1.04383),
    ),
    "5/3": (
        (1.22474, 1.65831, 2.31840, 3.26917, 4.61993, 6.53237, 9.23775, 13.06400),
        (0.84779, 0.96014, 1.25934, 1.74441, 2.45387, 3.46565, 4.89953, 6.92840),
    ),
}
#: Columns that are worked on at a time.
_COLUMNS = 256
_ROOT = 0.7071067811865476


def analyse(plane: Samples, name: Filter, levels: int) -> list[list[Samples]]:
    """Bands from coarse to fine: [[LL]], then [HL, LH, HH] of each level.

    HL is high along rows, LH high along columns. Sizes are those of `band_shapes`. For "5/3" the
    plane holds whole numbers and so do the bands.
    """
    details = []
    for _ in range(levels):
        low, high = _split(plane, name)
        (ll, hl), (lh, hh) = (_split(half.T, name) for half in (low, high))
        details.append([band.T for band in (hl, lh, hh)])
        plane = ll.T
    return [[plane], *details[::-1]]


def synthesise(bands: list[list[Samples]], name: Filter) -> Samples:
    """The plane of bands as `analyse` gives them."""
    ((plane,), *details) = bands
    for hl, lh, hh in details:
        low = _join(plane.T, hl.T, name).T
        high = _join(lh.T, hh.T, name).T
        plane = _join(low, high, name)
    return plane


def band_shapes(height: int, width: int, levels: int) -> list[list[tuple[int, int]]]:
    """Shapes of the bands, in the order of `analyse`."""
    shapes = []
    for _ in range(levels):
        rows, columns = (height + 1) // 2, (width + 1) // 2
        shapes.append([
            (rows, width - columns), (height - rows, columns), (height - rows, width - columns),
        ])  # fmt: skip
        height, width = rows, columns
    return [[(height, width)], *shapes[::-1]]


def band_norms(name: Filter, levels: int) -> list[list[float]]:
    """L2 norms of the synthesis functions of the bands, in the order of `analyse`.

    A step over the norm is the step of a band: the same error in each, per number, is the least
    rate at a mean squared error (Woods and Naveen, IEEE Trans. Image Processing 1(3), 1992,
    doi:10.1109/83.148611).
    """
    if levels == 0:
        return [[1.0]]
    details = []
    for level in range(1, levels + 1):
        low, high = (_norm(one, level, name) for one in _NORMS[name])
        details.append([high * low, low * high, high * high])
    return [[_norm(_NORMS[name][0], levels, name) ** 2], *details[::-1]]


def _norm(levels: tuple[float, ...], level: int, name: Filter) -> float:
    beyond = max(0, level - len(levels))
    return levels[level - beyond - 1] * (2.0 ** (beyond / 2) if name == "5/3" else 1.0)


def _split(plane: Samples, name: Filter) -> tuple[Samples, Samples]:
    """Low and high half along the first axis."""
    low, high = np.empty_like(plane[::2]), np.empty_like(plane[1::2])

    def work(part: slice) -> None:
        low[:, part], high[:, part] = _split_part(plane[:, part], name)

    on_bands(work, plane.T, _COLUMNS)
    return low, high


def _join(low: Samples, high: Samples, name: Filter) -> Samples:
    """Inverse of `_split`."""
    plane = np.empty_like(low, shape=(low.shape[0] + high.shape[0], low.shape[1]))

    def work(part: slice) -> None:
        plane[:, part] = _join_part(low[:, part], high[:, part], name)

    on_bands(work, plane.T, _COLUMNS)
    return plane


def _split_part(plane: Samples, name: Filter) -> tuple[Samples, Samples]:
    # Order K keeps a transposed plane as it lies in memory.
    low, high = plane[::2].copy(order="K"), plane[1::2].copy(order="K")
    if high.shape[0] == 0:
        return low, high
    if name == "haar":
        pairs = low[: high.shape[0]]
        total, gap = (pairs + high) * _of(_ROOT, plane), (high - pairs) * _of(_ROOT, plane)
        low[: high.shape[0]] = total
        return low, gap
    if name == "5/3":
        high -= _beside(low, high.shape[0], forward=True) >> 1
        low += (_beside(high, low.shape[0], forward=False) + 2) >> 2
        return low, high
    for i, weight in enumerate(_STEPS_97):
        _lift(low, high, i, _of(weight, plane))
    low *= _of(_SCALE_97, plane)
    high *= _of(-1 / _SCALE_97, plane)
    return low, high


def _join_part(low: Samples, high: Samples, name: Filter) -> Samples:
    low, high = low.copy(order="K"), high.copy(order="K")
    if high.shape[0] and name == "haar":
        total, gap = low[: high.shape[0]].copy(order="K"), high
        low[: high.shape[0]] = (total - gap) * _of(_ROOT, low)
        high = (total + gap) * _of(_ROOT, low)
    elif high.shape[0] and name == "5/3":
        low -= (_beside(high, low.shape[0], forward=False) + 2) >> 2
        high += _beside(low, high.shape[0], forward=True) >> 1
    elif high.shape[0]:
        low *= _of(1 / _SCALE_97, low)
        high *= _of(-_SCALE_97, low)
        for i in (3, 2, 1, 0):
            _lift(low, high, i, _of(-_STEPS_97[i], low))
    plane = np.empty_like(low, shape=(low.shape[0] + high.shape[0], low.shape[1]))
    plane[::2], plane[1::2] = low, high
    return plane


def _lift(low: Samples, high: Samples, step: int, weight: Any) -> None:
    """Add weighted neighbours of the low half to the high one, or the other way round."""
    if step % 2 == 0:
        high += weight * _beside(low, high.shape[0], forward=True)
    else:
        low += weight * _beside(high, low.shape[0], forward=False)


def _beside(other: Samples, count: int, *, forward: bool) -> Samples:
    """Sum of both neighbours in the other half, mirrored about the end samples."""
    if forward:  # sample i of the high half lies between i and i + 1 of the low one
        total = other[:count].copy(order="K")
        total[: other.shape[0] - 1] += other[1 : count + 1]
        if other.shape[0] == count:
            total[-1] += other[-1]
        return total
    # sample i of the low half lies between i - 1 and i of the high one
    total = np.empty_like(other, shape=(count, *other.shape[1:]))
    total[: other.shape[0]] = other[:count]
    if count > other.shape[0]:
        total[-1] = other[-1]
    total[1:] += other[: count - 1]
    total[0] += other[0]
    return total


def _of(number: float, like: Samples) -> Any:
    return like.dtype.type(number)
