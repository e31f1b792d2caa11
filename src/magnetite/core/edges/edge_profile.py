"""The profile across a slanted edge, its modulation transfer, and the errors of its figures."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float64, Indices
from magnetite.core.compute.jackknife import jackknife_error
from magnetite.core.compute.psf import crossing
from magnetite.core.errors import PictureError
from magnetite.core.picture.region import Region

#: Samples of the edge profile for each px across the edge (ISO 12233:2017, annex D).
OVERSAMPLING = 4
#: For an edge that is searched for: largest rms distance of the rows' edges from a straight line,
#: and largest bow of theirs, px.
STRAIGHT, _BOWED = 0.5, 0.2
#: Share of its height by which an edge overshoots that was sharpened, at least.
_OVERSHOOT = 0.05
#: Parts along the edge that are left out in turn for the error of its figures, and the error of
#: MTF50 and MTF10 on edges without noise (95 %), a share of them.
_PARTS, _MODEL_ERROR = 8, 0.005


@dataclass(frozen=True)
class EdgeErrors:
    """Half the 95 % intervals of an edge's figures; None where one cannot be told."""

    mtf50: float | None
    mtf10: float | None
    overshoot: float
    #: Of the modulation transfer, at its frequencies.
    mtf: Float64


def errors_of(plane: Float64, region: Region, frequency: Float64) -> EdgeErrors:
    """Errors of the figures of an edge, from leaving out parts along it (jackknife).

    The line is refitted without each part, so that its error is included; for MTF50 and MTF10 the
    error of sorting into bins is added.

    Parameters
    ----------
    plane : float array, shape (h, w)
        The edge runs down, the brighter side is the right one.
    region : Region
        Of the plane, for messages.
    frequency : float array, shape (n,)
        Frequencies of the modulation transfer, c/px.

    Returns
    -------
    EdgeErrors

    Raises
    ------
    PictureError
        If the edge is lost without one of its parts.
    """
    rows = np.arange(plane.shape[0])
    curves, overshoots = [], []
    for part in np.array_split(rows, _PARTS):
        kept = np.delete(rows, part)
        slope, offset, _ = edge_line(plane[kept], region, kept)
        profile = edge_profile(plane[kept], slope, offset, kept)[1]
        curves.append(np.interp(frequency, *transfer(profile)))
        overshoots.append(excursion(profile))
    halves, tenths = ([crossing(frequency, one, level) for one in curves] for level in (0.5, 0.1))
    return EdgeErrors(
        _with_model(halves), _with_model(tenths), float(_drawn(np.array(overshoots))),
        _drawn(np.array(curves)),
    )  # fmt: skip


def _drawn(figures: Float64) -> Float64:
    """Half the 95 % interval of figures by those without each part, first axis the parts."""
    from scipy.special import stdtrit

    return np.asarray(stdtrit(_PARTS - 1, 0.975) * jackknife_error(figures))


def _with_model(crossings: list[float | None]) -> float | None:
    found = np.array([one for one in crossings if one is not None])
    if found.size < len(crossings):
        return None
    return math.hypot(float(_drawn(found)), _MODEL_ERROR * float(found.mean()))


def overshoot_of(profile: Float64, noise: float) -> float:
    """Largest excursion beyond the plateaus, a share of the edge's height; 0 within the noise.

    `profile` has shape (n,); `noise` is the standard error of a point of the profile.
    """
    outer = _plateaus(profile)
    least = max(_OVERSHOOT, 5 * noise / (outer[1] - outer[0]))
    beyond = excursion(profile)
    return beyond if beyond > least else 0.0


def excursion(profile: Float64) -> float:
    """Largest excursion of a profile, shape (n,), beyond its plateaus, of the edge's height."""
    low, high = _plateaus(profile)
    return max(float(profile.max()) - high, low - float(profile.min())) / (high - low)


def _plateaus(profile: Float64) -> tuple[float, float]:
    """Mean levels of both ends of a profile."""
    outer = max(4, profile.size // 10)
    return float(profile[:outer].mean()), float(profile[-outer:].mean())


def edge_line(
    plane: Float64, region: Region, rows: Indices | None = None
) -> tuple[float, float, Float64]:
    """Slope and offset of the edge `x = offset + slope row`, and its position in every row.

    `rows` are the numbers of the plane's rows, if they are not all. Raises `PictureError` where no
    edge crosses all rows.
    """
    derivative = np.diff(plane, axis=1)
    x = np.arange(derivative.shape[1]) + 0.5
    rows = np.arange(plane.shape[0]) if rows is None else rows
    away = rows - rows.mean()
    line: Float64 = np.full(rows.size, derivative.shape[1] / 2)
    width = float(derivative.shape[1])
    centre: Float64 = line
    slope = offset = 0.0
    for _ in range(4):  # a window about the line excludes samples far from the edge
        reach = (np.abs(x - line[:, np.newaxis]) / width).clip(0, 0.5)
        weighted = derivative * np.cos(np.pi * reach) ** 2
        total = weighted.sum(axis=1)
        if (total <= 0).any():
            raise PictureError(f"the region {region} holds no edge that crosses all of it")
        centre = (weighted @ x) / total
        slope = float(away @ centre / (away @ away))
        offset = float(centre.mean() - slope * rows.mean())
        line = np.asarray(offset + slope * rows)
        width = max(width * 0.7, 12.0)
    if not (line.min() > 1 and line.max() < plane.shape[1] - 2):
        raise PictureError(f"the region {region} holds no edge that crosses all of it")
    return slope, offset, centre


def line_deviation(slope: float, offset: float, centre: Float64) -> float:
    """Deviation of an edge's positions in all rows, shape (n,), from its line, px.

    Their rms distance, or their bow where it weighs more.
    """
    rows = np.arange(centre.size)
    straightness = float(np.sqrt(np.mean((centre - offset - slope * rows) ** 2)))
    bow = abs(float(np.polyfit(rows, centre, 2)[0])) * rows.size**2 / 8
    return max(straightness, STRAIGHT / _BOWED * bow)


def edge_profile(
    plane: Float64, slope: float, offset: float, rows: Indices | None = None
) -> tuple[Float64, Float64, float]:
    """Means over quarters of a px of distance from the edge, and the plateaus' noise.

    `rows` are the numbers of the plane's rows, if they are not all.
    """
    numbers = np.arange(plane.shape[0]) if rows is None else rows
    line = offset + slope * numbers[:, np.newaxis]
    distance = np.asarray((np.arange(plane.shape[1]) - line) / math.hypot(1, slope), np.float64)
    reach = math.floor(min(-distance[:, 0].max(), distance[:, -1].min())) - 0.5
    reach = max(reach, 4.0)
    bins = int(2 * reach * OVERSAMPLING)
    index = np.floor((distance + reach) * OVERSAMPLING).astype(int)
    inside = (index >= 0) & (index < bins)
    index, samples, distance = index[inside], plane[inside], distance[inside]
    count = np.bincount(index, minlength=bins)
    sums = np.bincount(index, samples, bins)
    filled = count > 0
    centres: Float64 = (np.arange(bins) + 0.5) / OVERSAMPLING - reach
    # Where the tangent of the angle is near 1/4, samples lie at one side of all bins.
    positions = np.bincount(index, distance, bins)[filled] / count[filled]
    profile: Float64 = np.interp(centres, positions, sums[filled] / count[filled])
    outer = np.abs(distance) > reach / 2
    noise = float(np.std(samples[outer] - profile[index[outer]]))
    return centres, profile, noise


def transfer(profile: Float64) -> tuple[Float64, Float64]:
    """Frequencies up to 1 c/px and modulation transfer of an edge profile, each of shape (n,).

    Raises `PictureError` if the edge is near the end of the profile.
    """
    spread = np.gradient(profile)
    centre = int(np.rint((np.arange(spread.size) * spread).sum() / spread.sum()))
    half = min(centre, spread.size - 1 - centre)
    spread = spread[centre - half : centre + half + 1]
    spread = spread * _window(spread.size)
    length = max(1024, 1 << (spread.size - 1).bit_length())
    contrast = np.abs(np.fft.rfft(spread, length))
    if contrast[0] == 0:
        raise PictureError("the edge is too near to the end of its region")
    frequency = np.fft.rfftfreq(length, 1 / OVERSAMPLING)
    kept = frequency <= 1
    frequency = frequency[kept]
    # The difference of next neighbours but one, and the mean over a bin, both weaken detail.
    delta = 1 / OVERSAMPLING
    loss = np.sinc(2 * frequency * delta) * np.sinc(frequency * delta)
    return frequency.astype(np.float64), contrast[kept] / contrast[0] / loss


def _window(size: int) -> Float64:
    """Flat over the middle half, falling to 0 as a cosine (Tukey): the spread is not narrowed."""
    from scipy.signal.windows import tukey

    return np.asarray(tukey(size, 0.5))
