"""Sharpness of a camera from a slanted edge (ISO 12233), and the blur step that makes it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.compute.psf import crossing, disk_transfer, gaussian_transfer
from magnetite.core.edges.edge_profile import (
    OVERSAMPLING,
    STRAIGHT,
    EdgeErrors,
    edge_line,
    edge_profile,
    errors_of,
    line_deviation,
    overshoot_of,
    transfer,
)
from magnetite.core.edges.edge_search import LEAST_ANGLE, MOST_ANGLE, candidates
from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture, luma
from magnetite.core.picture.frame import Light, encoded_remark
from magnetite.core.picture.region import Region
from magnetite.core.table import Row, Tabular

#: Smallest sides of a region, px.
SMALLEST = 16
_LEAST_CONTRAST = 0.02
#: For an edge that is searched for: largest sd of its plateaus, and largest slope of its plateaus,
#: of its height; largest share of the profile that the rise takes; largest error of MTF50, a share
#: of it (95 %).
_CLEAN, _EVEN, _RISE, _SURE = 0.12, 0.03, 0.4, 0.15
#: Edges that are measured before one is chosen; regions that share more than this hold one edge.
_ENOUGH, _SAME = 6, 0.25
#: Share of the samples of a plateau at black or full scale from which on it may be clipped.
_CLIPPED = 0.02
#: Rms distance from the MTF from which on a blur does not fit.
_FITS = 0.05
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
    #: Blurs that explain the curve, the best first; none if it is as sharp as pixels are, was
    #: sharpened, or follows no blur.
    blurs: tuple[Blur, ...]
    #: How far the profile goes beyond its plateaus next to the edge, a share of its height; 0
    #: where noise explains it.
    overshoot: float = 0.0
    #: Distance of the nearest blur where none is near enough to be offered.
    misfit: float | None = None
    #: Whether its plateaus reach black or full scale, where noise and overshoots are cut off.
    clipped: bool = False
    #: Relation of the samples to light.
    light: Light = "unknown"
    #: Of all figures; None where an interval cannot be told.
    errors: EdgeErrors | None = None

    @property
    def mtf50_error(self) -> float | None:
        """Half the 95 % interval of MTF50; None where there is none."""
        return None if self.errors is None else self.errors.mtf50

    @property
    def mtf10_error(self) -> float | None:
        """The same of MTF10."""
        return None if self.errors is None else self.errors.mtf10

    @property
    def overshoot_error(self) -> float | None:
        """The same of the overshoot."""
        return None if self.errors is None else self.errors.overshoot

    def mtf_at(self, frequency: float) -> tuple[float, float | None]:
        """Modulation transfer at a frequency, c/px, and half its 95 % interval."""
        value = float(np.interp(frequency, self.frequency, self.mtf))
        if self.errors is None:
            return value, None
        return value, float(np.interp(frequency, self.frequency, self.errors.mtf))

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
    slope, offset, centre = edge_line(plane, region)
    angle = math.degrees(math.atan(abs(slope)))
    position, profile, noise = edge_profile(plane, slope, offset)
    contrast = float(profile[-OVERSAMPLING * 3 :].mean() - profile[: OVERSAMPLING * 3].mean())
    if contrast < _LEAST_CONTRAST:
        raise PictureError(f"the region {region} holds no edge of enough contrast")
    clean = noise < _CLEAN * contrast and _unevenness(profile) < _EVEN * contrast
    slanted = LEAST_ANGLE <= angle <= MOST_ANGLE
    straight = line_deviation(slope, offset, centre) < STRAIGHT
    if strict and not (slanted and straight and clean and _is_short(profile)):
        raise PictureError("no clean edge")
    frequency, mtf = transfer(profile)
    half = crossing(frequency, mtf, 0.5)
    errors = None if half is None else errors_of(plane, region, frequency)
    if strict and not (half and errors and errors.mtf50 and errors.mtf50 <= _SURE * half):
        raise PictureError("no sure edge")
    overshoot = overshoot_of(profile, noise / math.sqrt(max(1, plane.shape[0] / OVERSAMPLING)))
    clipped = _is_clipped(plane, offset + slope * np.arange(plane.shape[0]))
    blurs = _blurs(frequency, mtf)
    near = tuple(blur for blur in blurs if blur.distance < _FITS and not overshoot)
    misfit = blurs[0].distance if blurs and not near else None
    return Edge(
        region, angle, contrast, noise, position, profile, frequency, mtf, half,
        crossing(frequency, mtf, 0.1), near, overshoot, misfit, clipped,
        errors=None if clipped else errors,
    )  # fmt: skip


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


def _unevenness(profile: Float64) -> float:
    """Largest change over either outer fifth of the profile, ends against beginnings."""
    outer = max(4, profile.size // 5)
    sides = profile[:outer], profile[-outer:]
    half = outer // 2
    return max(abs(float(side[:half].mean() - side[half:].mean())) for side in sides)


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
