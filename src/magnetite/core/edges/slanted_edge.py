"""Sharpness of a camera from a slanted edge (ISO 12233), and the blur step that makes it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from magnetite.core.arrays import Float64, Indices, Pixels
from magnetite.core.compute.psf import crossing, disk_transfer, gaussian_transfer
from magnetite.core.edges.edge_search import LEAST_ANGLE, MOST_ANGLE, candidates
from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture, luma
from magnetite.core.picture.frame import Light, encoded_remark
from magnetite.core.picture.region import Region
from magnetite.core.table import Row, Tabular

#: Samples of the edge profile for each px across the edge (ISO 12233:2017, annex D).
OVERSAMPLING = 4
#: Smallest sides of a region, px.
SMALLEST = 16
_LEAST_CONTRAST = 0.02
#: For an edge that is searched for: largest rms distance of the rows' edges from a straight
#: line, and largest bow of theirs, px; largest sd beside the edge, and largest slope of its
#: plateaus, of its height; largest share of the profile that the rise takes; largest error of
#: MTF50, a share of it (95 %).
_STRAIGHT, _BOWED, _CLEAN, _EVEN, _RISE, _SURE = 0.5, 0.2, 0.12, 0.03, 0.4, 0.15
#: Parts along the edge that are left out in turn for the error of its figures, and the error of
#: MTF50 on edges without noise (95 %), a share of it.
_PARTS, _MODEL_ERROR = 8, 0.005
#: Edges that are measured before one is chosen; regions that share more than this hold one edge.
_ENOUGH, _SAME = 6, 0.25
#: Share of the samples of a plateau at black or full scale from which on it may be clipped.
_CLIPPED = 0.02
#: Share of its height by which an edge overshoots that was sharpened, at least; rms distance
#: from the MTF from which on a blur does not fit.
_OVERSHOOT, _FITS = 0.05, 0.05
#: The blur is fitted where contrast is above this.
_FIT_FLOOR = 0.1


@dataclass(frozen=True)
class Blur:
    """A blur that gives the measured curve: its step, and its rms distance from the curve."""

    step: str
    distance: float


@dataclass(frozen=True, repr=False)
class Edge(Tabular):
    """A measured edge. Frequencies in cycles per px along the edge's normal; positions in px."""

    region: Region
    #: Between the edge and the nearer axis, degrees.
    angle: float
    #: Height of the step and noise of its plateaus, full-scale units.
    contrast: float
    noise: float
    position: Float64
    profile: Float64
    frequency: Float64
    mtf: Float64
    mtf50: float | None
    mtf10: float | None
    #: Half the 95 % interval of MTF50; None where there is none.
    mtf50_error: float | None
    #: Blurs that explain the curve, the best first; none if it is as sharp as pixels are, was
    #: sharpened, or follows no blur.
    blurs: tuple[Blur, ...]
    #: How far the profile goes beyond its plateaus beside the edge, a share of its height; 0
    #: where noise explains it.
    overshoot: float = 0.0
    #: Distance of the nearest blur where none is near enough to be offered.
    misfit: float | None = None
    #: Whether its plateaus reach black or full scale, where noise and overshoots are cut off.
    clipped: bool = False
    #: Relation of the samples to light.
    light: Light = "unknown"

    def rows(self) -> list[Row]:
        """A row for each figure, then how well each blur fits."""
        fits = [Row(f"fit of {blur.step}", blur.distance, "rms") for blur in self.blurs]
        return [
            Row("MTF50", self.mtf50, "c/px"),
            Row("± (95 %)", self.mtf50_error, "c/px"),
            Row("MTF10", self.mtf10, "c/px"),
            Row("angle to the axis", self.angle, "deg"),
            Row("contrast of the edge", 100 * self.contrast, "% of full scale"),
            Row("noise near the edge", 100 * self.noise, "% of full scale"),
            Row("overshoot", 100 * self.overshoot, "% of the contrast"),
            *fits,
        ]

    @property
    def words(self) -> str:
        """Where the edge is, how sharp, and how sure."""
        found = "no MTF50 up to 1 c/px"
        if self.mtf50 is not None:
            found = f"MTF50 {self.mtf50:.4f} c/px"
            if self.mtf50_error is not None:
                found += f" ± {self.mtf50_error:.4f} (95 %)"
        return f"edge in {self.region}, {self.angle:.1f} degrees off an axis: {found}"

    @property
    def remarks(self) -> tuple[str, ...]:
        """Remarks on the limits of the figures."""
        made = [*encoded_remark(self.light, "sharpness figures")]
        if self.clipped:
            made.append(
                "the edge reaches black or full scale: if it is clipped there, it looks sharper "
                "than it is, by 20 % and more; no interval is given: expose less"
            )
        if self.overshoot:
            made.append(
                f"the edge was sharpened: it overshoots by {100 * self.overshoot:.1f} % of its "
                "height, so its MTF is not that of the lens, and no blur is offered"
            )
        elif self.misfit is not None:
            made.append(
                f"no blur is offered: the nearest is {self.misfit:.3f} rms off the measured MTF"
            )
        if not LEAST_ANGLE <= self.angle <= MOST_ANGLE:
            made.append(
                f"the edge is {self.angle:.1f} degrees off an axis: outside {LEAST_ANGLE:g} to "
                f"{MOST_ANGLE:g} degrees the figures may be off by 6 %"
            )
        return tuple(made)


def measure_edge(picture: Picture, region: Region | None = None) -> Edge:
    """Modulation transfer of a slanted edge, in the region given or in the best one found.

    The edge is located in every row by the centroid of its derivative and fitted by a straight
    line; all samples are sorted by their distance from the line into quarters of a px; the
    derivative of that profile is windowed and transformed; the loss of the derivative and of
    the sorting is made good. ISO 12233:2017, annex D; Burns, IS&T PICS 2000.

    An edge that is searched for is straight, alone between even plateaus that its rise leaves
    room for, with an MTF50 known within 15 %; of up to six such edges, those that reach black or
    full scale left out if there are others, the one of median MTF50 is taken: the sharpest would
    be too sharp by their errors. The error is that of leaving out each eighth of the edge in turn
    (jackknife; Efron and Stein, Annals of Statistics 9(3), 1981, doi:10.1214/aos/1176345462).

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

    Examples
    --------
    >>> import numpy as np
    >>> import magnetite
    >>> from scipy.special import ndtr
    >>> y, x = np.mgrid[:80, :80]
    >>> step = ndtr((x - 40) - 0.1 * (y - 40))  # a Gaussian blur of 1 px
    >>> edge = magnetite.convert(np.rint(40 + 160 * step).astype(np.uint8), "gray")
    >>> round(magnetite.measure_edge(edge).mtf50, 2)  # sqrt(ln 2 / 2) / pi = 0.187
    0.19
    """
    if region is not None:
        edge = _measured(luma(region.of(picture)), region, strict=False)
        return replace(edge, light=picture.light)
    if found := measure_edges(picture, _ENOUGH):
        within = [edge for edge in found if not edge.clipped] or found
        middle = sorted(within, key=lambda edge: edge.mtf50 or 0.0)[(len(within) - 1) // 2]
        return replace(middle, light=picture.light)
    raise PictureError(
        f"no straight edge 2 to 14 degrees off an axis was found in {picture.origin}; name the "
        "region that holds one, as LEFT,TOP,WIDTHxHEIGHT"
    )


def measure_edges(picture: Picture, most: int) -> list[Edge]:
    """The clean slanted edges of a picture that do not overlap, the clearest first.

    Parameters
    ----------
    picture : Picture
        Gray, or RGB, of which luma is taken.
    most : int
        Edges that are measured at most.

    Returns
    -------
    list of Edge
    """
    plane = luma(picture.pixels())
    found: list[Edge] = []
    for candidate in candidates(plane):
        if any(_shared_area(candidate, edge.region) > _SAME for edge in found):
            continue
        try:
            found.append(_measured(candidate.within(plane), candidate, strict=True))
        except PictureError:
            continue
        if len(found) == most:
            break
    return found


def _shared_area(one: Region, other: Region) -> float:
    """Area that two regions share, over that of the first."""
    width = min(one.left + one.width, other.left + other.width) - max(one.left, other.left)
    height = min(one.top + one.height, other.top + other.height) - max(one.top, other.top)
    return max(0, width) * max(0, height) / (one.width * one.height)


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
    slanted = LEAST_ANGLE <= angle <= MOST_ANGLE
    if strict and not (slanted and straightness < _STRAIGHT and clean and _is_short(profile)):
        raise PictureError("no clean edge")
    frequency, mtf = _transfer(profile)
    half = crossing(frequency, mtf, 0.5)
    error = None if half is None else _error_of_half(plane, region)
    if strict and (half is None or error is None or error > _SURE * half):
        raise PictureError("no sure edge")
    overshoot = _overshoot(profile, noise / math.sqrt(max(1, plane.shape[0] / OVERSAMPLING)))
    clipped = _is_clipped(plane, offset + slope * np.arange(plane.shape[0]))
    error = None if clipped else error
    blurs = _blurs(frequency, mtf)
    near = tuple(blur for blur in blurs if blur.distance < _FITS and not overshoot)
    misfit = blurs[0].distance if blurs and not near else None
    return Edge(
        region, angle, contrast, noise, position, profile, frequency, mtf, half,
        crossing(frequency, mtf, 0.1), error, near, overshoot, misfit, clipped,
    )  # fmt: skip


def _overshoot(profile: Float64, noise: float) -> float:
    """Largest excursion beyond the plateaus, a share of the edge's height; 0 within the noise.

    `noise` is the standard error of a point of the profile.
    """
    outer = max(4, profile.size // 10)
    low, high = float(profile[:outer].mean()), float(profile[-outer:].mean())
    beyond = max(float(profile.max()) - high, low - float(profile.min())) / (high - low)
    least = max(_OVERSHOOT, 5 * noise / (high - low))
    return beyond if beyond > least else 0.0


def _is_clipped(plane: Float64, line: Pixels) -> bool:
    """Whether a plateau has samples at black or full scale."""
    below = np.arange(plane.shape[1]) < line[:, np.newaxis]
    return any(
        float(np.mean((plane[side] <= 0) | (plane[side] >= 1))) > _CLIPPED
        for side in (below, ~below)
    )


def _is_short(profile: Float64) -> bool:
    """Whether the rise from 10 % to 90 % leaves room for plateaus on both sides."""
    low, high = profile[: profile.size // 10].mean(), profile[-(profile.size // 10) :].mean()
    share = (profile - low) / (high - low)
    between = int(np.count_nonzero((share > 0.1) & (share < 0.9)))
    return between < _RISE * profile.size


def _error_of_half(plane: Float64, region: Region) -> float | None:
    """Half the 95 % interval of MTF50, from leaving out parts along the edge.

    The line is refitted without each part, so that its error is included; the error of sorting into
    bins is added.
    """
    from scipy.special import stdtrit

    rows = np.arange(plane.shape[0])
    halves = []
    for part in np.array_split(rows, _PARTS):
        kept = np.setdiff1d(rows, part)
        slope, offset, _ = _edge_line(plane[kept], region, kept)
        profile = _edge_profile(plane[kept], slope, offset, kept)[1]
        found = crossing(*_transfer(profile), 0.5)
        if found is None:
            return None
        halves.append(found)
    spread = float(np.sum((np.array(halves) - np.mean(halves)) ** 2))
    drawn = float(stdtrit(_PARTS - 1, 0.975)) * math.sqrt((_PARTS - 1) / _PARTS * spread)
    return math.hypot(drawn, _MODEL_ERROR * float(np.mean(halves)))


def _edge_line(
    plane: Float64, region: Region, rows: Indices | None = None
) -> tuple[float, float, float]:
    """Slope and offset of the edge `x = offset + slope row`, and how far the rows are off it.

    That is their rms distance, or their bow where it weighs more. `rows` are the numbers of the
    plane's rows, if they are not all.
    """
    derivative = np.diff(plane, axis=1)
    x = np.arange(derivative.shape[1]) + 0.5
    rows = np.arange(plane.shape[0]) if rows is None else rows
    line: Float64 = np.full(rows.size, derivative.shape[1] / 2)
    width = float(derivative.shape[1])
    slope = offset = straightness = bow = 0.0
    for _ in range(4):  # a window about the line excludes samples far from the edge
        reach = np.abs(x - line[:, np.newaxis]) / width
        weighted = derivative * np.where(reach < 0.5, np.cos(np.pi * reach.clip(0, 0.5)) ** 2, 0)
        total = weighted.sum(axis=1)
        if (total <= 0).any():
            raise PictureError(f"the region {region} holds no edge that crosses all of it")
        centre = (weighted @ x) / total
        slope, offset = (float(v) for v in np.polyfit(rows, centre, 1))
        line = np.asarray(offset + slope * rows)
        straightness = float(np.sqrt(np.mean((centre - line) ** 2)))
        bow = abs(float(np.polyfit(rows, centre, 2)[0])) * rows.size**2 / 8
        width = max(width * 0.7, 12.0)
    if not (line.min() > 1 and line.max() < plane.shape[1] - 2):
        raise PictureError(f"the region {region} holds no edge that crosses all of it")
    return slope, offset, max(straightness, _STRAIGHT / _BOWED * bow)


def _edge_profile(
    plane: Float64, slope: float, offset: float, rows: Indices | None = None
) -> tuple[Float64, Float64, float]:
    """Means over quarters of a px of distance from the edge, and the plateaus' noise.

    `rows` are the numbers of the plane's rows, if they are not all.
    """
    numbers = np.arange(plane.shape[0]) if rows is None else rows
    rows, x = np.meshgrid(numbers, np.arange(plane.shape[1]), indexing="ij")
    distance = np.asarray((x - offset - slope * rows) / math.hypot(1, slope), np.float64)
    reach = math.floor(min(-distance[:, 0].max(), distance[:, -1].min())) - 0.5
    reach = max(reach, 4.0)
    bins = int(2 * reach * OVERSAMPLING)
    index = np.floor((distance + reach) * OVERSAMPLING).astype(int)
    inside = (index >= 0) & (index < bins)
    count = np.bincount(index[inside], minlength=bins)
    sums = np.bincount(index[inside], plane[inside], bins)
    filled = count > 0
    centres: Float64 = (np.arange(bins) + 0.5) / OVERSAMPLING - reach
    # Where the tangent of the angle is near 1/4, samples lie at one side of all bins.
    positions = np.bincount(index[inside], distance[inside], bins)[filled] / count[filled]
    profile: Float64 = np.interp(centres, positions, sums[filled] / count[filled])
    outer = inside & (np.abs(distance) > reach / 2)
    noise = float(np.std(plane[outer] - profile[index[outer]]))
    return centres, profile, noise


def _unevenness(profile: Float64) -> float:
    """Largest change over either outer fifth of the profile, ends against beginnings."""
    outer = max(4, profile.size // 5)
    sides = profile[:outer], profile[-outer:]
    half = outer // 2
    return max(abs(float(side[:half].mean() - side[half:].mean())) for side in sides)


def _transfer(profile: Float64) -> tuple[Float64, Float64]:
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


def _window(size: int) -> Float64:
    """Flat over the middle half, falling to 0 as a cosine (Tukey): the spread is not narrowed."""
    from scipy.signal.windows import tukey

    return np.asarray(tukey(size, 0.5))


def _blurs(frequency: Float64, mtf: Float64) -> tuple[Blur, ...]:
    """Blurs fitted to the curve, seen through the aperture of a px, best first."""
    from scipy.optimize import minimize_scalar

    end = crossing(frequency, mtf, _FIT_FLOOR) or 0.5
    used = (frequency > 0) & (frequency <= min(end, 0.5))
    f, measured = frequency[used], mtf[used]
    aperture = np.sinc(f)

    def gaussian(sigma: float) -> Float64:
        return np.asarray(gaussian_transfer(sigma)(f) * aperture)

    def disk(radius: float) -> Float64:
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
