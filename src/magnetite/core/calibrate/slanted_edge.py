"""Sharpness of a camera from a slanted edge (ISO 12233), and the blur step that makes it."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from magnetite.core.calibrate.edge_search import candidates
from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture, Pixels, luma
from magnetite.core.psf import crossing, disk_transfer, gaussian_transfer
from magnetite.core.region import Region

Array = NDArray[np.float64]

#: Samples of the edge profile for each px across the edge (ISO 12233:2017, annex D).
OVERSAMPLING = 4
#: Smallest sides of a region, px.
SMALLEST = 16
_LEAST_CONTRAST = 0.02
#: For an edge that is found by itself: largest rms distance of the rows' edges from a straight
#: line, px; largest sd beside the edge, and largest slope of its plateaus, of its height.
_STRAIGHT, _CLEAN, _EVEN = 0.5, 0.12, 0.04
#: The blur is fitted where contrast is above this.
_FIT_FLOOR = 0.1


@dataclass(frozen=True)
class Blur:
    """A blur that gives the measured curve: its step, and its rms distance from the curve."""

    step: str
    distance: float


@dataclass(frozen=True)
class Edge:
    """A measured edge. Frequencies in cycles per px along the edge's normal; positions in px."""

    region: Region
    #: Between the edge and the nearer axis, degrees.
    angle: float
    #: Height of the step and noise of its plateaus, full-scale units.
    contrast: float
    noise: float
    position: Array
    profile: Array
    frequency: Array
    mtf: Array
    mtf50: float | None
    mtf10: float | None
    #: Blurs that explain the curve, the best first; none if it is as sharp as pixels are.
    blurs: tuple[Blur, ...]


def measure_edge(picture: Picture, region: Region | None = None) -> Edge:
    """Modulation transfer of a slanted edge, in the region given or in the best one found.

    The edge is located in every row by the centroid of its derivative and fitted by a straight
    line; all samples are sorted by their distance from the line into quarters of a px; the
    derivative of that profile is windowed and transformed; the loss of the derivative and of
    the sorting is made good. ISO 12233:2017, annex D; Burns, IS&T PICS 2000.

    Parameters
    ----------
    picture : Picture
        Gray, or RGB, of which luma is taken.
    region : Region, optional
        Holds one edge, straight and 2 to 14 degrees off an axis, with plateaus on both sides.

    Returns
    -------
    Edge

    Raises
    ------
    PictureError
        If the region holds no such edge, or none is found.
    """
    if region is not None:
        return _measured(luma(region.of(picture)), region, strict=False)
    plane = luma(picture.pixels())
    for candidate in candidates(plane):
        try:
            return _measured(candidate.within(plane), candidate, strict=True)
        except PictureError:
            continue
    raise PictureError(
        f"{picture.origin}: no straight edge 2 to 14 degrees off an axis was found by itself; "
        "name one with --region LEFT,TOP,WIDTHxHEIGHT"
    )


def _measured(window: Pixels, region: Region, *, strict: bool) -> Edge:
    if min(window.shape) < SMALLEST:
        raise PictureError(f"the region {region} is smaller than {SMALLEST}x{SMALLEST}")
    plane = window.astype(np.float64)
    across, down = (float(np.abs(np.diff(plane.mean(axis=a))).max()) for a in (0, 1))
    upright = across >= down
    plane = plane if upright else plane.T
    if plane[:, : plane.shape[1] // 4].mean() > plane[:, -(plane.shape[1] // 4) :].mean():
        plane = plane[:, ::-1]
    slope, offset, straightness = _edge_line(plane, region)
    angle = math.degrees(math.atan(abs(slope)))
    position, profile, noise = _edge_profile(plane, slope, offset)
    contrast = float(profile[-OVERSAMPLING * 3 :].mean() - profile[: OVERSAMPLING * 3].mean())
    if contrast < _LEAST_CONTRAST:
        raise PictureError(f"the region {region} holds no edge of enough contrast")
    clean = noise < _CLEAN * contrast and _unevenness(profile) < _EVEN * contrast
    if strict and not (2 <= angle <= 14 and straightness < _STRAIGHT and clean):
        raise PictureError("no clean edge")
    frequency, mtf = _transfer(profile)
    return Edge(
        region, angle, contrast, noise, position, profile, frequency, mtf,
        crossing(frequency, mtf, 0.5), crossing(frequency, mtf, 0.1), _blurs(frequency, mtf),
    )  # fmt: skip


def _edge_line(plane: Array, region: Region) -> tuple[float, float, float]:
    """Slope and offset of the edge `x = offset + slope row`, and the rows' rms distance from it."""
    derivative = np.diff(plane, axis=1)
    x = np.arange(derivative.shape[1]) + 0.5
    rows = np.arange(plane.shape[0])
    line: Array = np.full(rows.size, derivative.shape[1] / 2)
    width = float(derivative.shape[1])
    slope = offset = straightness = 0.0
    for _ in range(4):  # a window about the line keeps what is far from the edge out
        reach = np.abs(x - line[:, np.newaxis]) / width
        weighted = derivative * np.where(reach < 0.5, np.cos(np.pi * reach.clip(0, 0.5)) ** 2, 0)
        total = weighted.sum(axis=1)
        if (total <= 0).any():
            raise PictureError(f"the region {region} holds no edge that crosses all of it")
        centre = (weighted @ x) / total
        slope, offset = (float(v) for v in np.polyfit(rows, centre, 1))
        line = np.asarray(offset + slope * rows)
        straightness = float(np.sqrt(np.mean((centre - line) ** 2)))
        width = max(width * 0.7, 12.0)
    if not (line.min() > 1 and line.max() < plane.shape[1] - 2):
        raise PictureError(f"the region {region} holds no edge that crosses all of it")
    return slope, offset, straightness


def _edge_profile(plane: Array, slope: float, offset: float) -> tuple[Array, Array, float]:
    """Means over quarters of a px of distance from the edge, and the plateaus' noise."""
    rows, x = np.indices(plane.shape)
    distance = np.asarray((x - offset - slope * rows) / math.hypot(1, slope), np.float64)
    reach = math.floor(min(-distance[:, 0].max(), distance[:, -1].min())) - 0.5
    reach = max(reach, 4.0)
    bins = int(2 * reach * OVERSAMPLING)
    index = np.floor((distance + reach) * OVERSAMPLING).astype(int)
    inside = (index >= 0) & (index < bins)
    count = np.bincount(index[inside], minlength=bins)
    sums = np.bincount(index[inside], plane[inside], bins)
    filled = count > 0
    centres: Array = (np.arange(bins) + 0.5) / OVERSAMPLING - reach
    profile: Array = np.interp(centres, centres[filled], sums[filled] / count[filled])
    outer = inside & (np.abs(distance) > reach / 2)
    noise = float(np.std(plane[outer] - profile[index[outer]]))
    return centres, profile, noise


def _unevenness(profile: Array) -> float:
    """Largest change over either outer fifth of the profile, ends against beginnings."""
    outer = max(4, profile.size // 5)
    sides = profile[:outer], profile[-outer:]
    half = outer // 2
    return max(abs(float(side[:half].mean() - side[half:].mean())) for side in sides)


def _transfer(profile: Array) -> tuple[Array, Array]:
    """Modulation transfer of an edge profile, up to 1 cycle per px."""
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


def _window(size: int) -> Array:
    """Flat over the middle half, falling to 0 as a cosine (Tukey): the spread is not narrowed."""
    from scipy.signal.windows import tukey

    return np.asarray(tukey(size, 0.5))


def _blurs(frequency: Array, mtf: Array) -> tuple[Blur, ...]:
    """Blurs fitted to the curve, seen through the aperture of a px, best first."""
    from scipy.optimize import minimize_scalar

    end = crossing(frequency, mtf, _FIT_FLOOR) or 0.5
    used = (frequency > 0) & (frequency <= min(end, 0.5))
    f, measured = frequency[used], mtf[used]
    aperture = np.sinc(f)

    def gaussian(sigma: float) -> Array:
        return np.asarray(gaussian_transfer(sigma)(f) * aperture)

    def disk(radius: float) -> Array:
        return np.abs(disk_transfer(radius)(f))

    blurs = []
    for text, model in (("gaussian-blur sigma={}px", gaussian), ("defocus radius={}px", disk)):
        fit = minimize_scalar(
            lambda width, model=model: float(np.mean((model(width) - measured) ** 2)),
            bounds=(0.02, 60.0), method="bounded", options={"xatol": 1e-5},
        )  # fmt: skip
        if fit.x > 0.15:
            blurs.append(Blur(text.format(f"{fit.x:.4g}"), math.sqrt(fit.fun)))
    return tuple(sorted(blurs, key=lambda blur: blur.distance))
