"""Comparison of rate-distortion curves."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal, TypeVar, get_args

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.errors import InputError, check_choice

#: Points of a curve: rate and quality.
Curve = Sequence[tuple[float, float]]
Fit = Literal["pchip", "akima", "polynomial"]
#: Which way of a score is better.
Better = Literal["higher", "lower"]
#: Two curves are compared only where they share at least this much of their joint range.
LEAST_OVERLAP = 0.3
#: Points of different rate and quality that a curve must have.
LEAST_POINTS = 4
#: Interpolations that differ by more than this share of the rate disagree.
_DISAGREE = 0.05
#: Interpolations that are compared; the first one counts.
_FITS: tuple[Fit, ...] = ("pchip", "akima", "polynomial")
Found = TypeVar("Found")


def bd_rate(anchor: Curve, test: Curve, fit: Fit = "pchip", better: Better = "higher") -> float:
    """Mean difference of rate at equal quality, as a share of the anchor's rate.

    Bjontegaard's measure (VCEG-M33, 2001): the mean gap between log rates over the qualities
    that both curves reach; -0.25 says that `test` needs 25 % less rate than `anchor`.

    Parameters
    ----------
    anchor, test : sequences of (rate, quality)
        Rates above 0, quality improving with rate, at least 4 points each. Points that a point
        of lower rate equals or surpasses are left out.
    fit : "pchip", "akima" or "polynomial"
        Piecewise cubic interpolation through all points (Fritsch and Butland 1984; Akima 1970),
        or the third-order polynomial of the source, fitted by least squares.
    better : "higher" or "lower"
        Which way of the quality is better; lower for errors such as MSE.

    Raises
    ------
    InputError
        If there are too few points, or the qualities overlap over less than 30 % of the
        smaller range (see `overlap`).

    Examples
    --------
    >>> import magnetite
    >>> anchor = [(0.2, 28.0), (0.4, 31.0), (0.8, 34.0), (1.6, 37.0)]
    >>> test = [(0.75 * rate, quality) for rate, quality in anchor]
    >>> round(magnetite.bd_rate(anchor, test), 6)
    -0.25
    """
    one, two = (_enough(_by_quality(points, better)) for points in (anchor, test))
    return float(np.expm1(_mean_gap(one, two, "quality", fit)))


def bd_quality(anchor: Curve, test: Curve, fit: Fit = "pchip", better: Better = "higher") -> float:
    """Mean difference of quality at equal rate, test less anchor, in the quality's unit.

    Interpolates quality over log rate; arguments and errors as in `bd_rate`.
    """
    one, two = (_enough(_by_log_rate(points, better)) for points in (anchor, test))
    return _mean_gap(one, two, "rate", fit)


def bd_rate_range(anchor: Curve, test: Curve, better: Better = "higher") -> tuple[float, float]:
    """Least and largest BD-rate by other interpolations, and without one inner point of a curve.

    That is how far the few points of a curve determine its BD-rate; arguments as in `bd_rate`.
    """
    return _Gaps.of(anchor, test, better).ends


@dataclass(frozen=True)
class _Gaps:
    """Mean gaps of log rate: by each interpolation, and without one inner point of a curve."""

    by_fit: dict[Fit, float]
    thinned: tuple[float, ...]

    @classmethod
    def of(cls, anchor: Curve, test: Curve, better: Better) -> _Gaps:
        one, two = (_enough(_by_quality(points, better)) for points in (anchor, test))
        low, high = _joint(one, two, "quality")  # the ends stay where an inner point is left out
        means = {fit: [_mean(curve, low, high, fit) for curve in (one, two)] for fit in _FITS}
        fit = _FITS[0]
        thinned = [means[fit][1] - _mean(less, low, high, fit) for less in _without_one(one)]
        thinned += [_mean(less, low, high, fit) - means[fit][0] for less in _without_one(two)]
        return cls({fit: own[1] - own[0] for fit, own in means.items()}, tuple(thinned))

    @property
    def ends(self) -> tuple[float, float]:
        """Least and largest BD-rate."""
        every = *self.by_fit.values(), *self.thinned
        return float(np.expm1(min(every))), float(np.expm1(max(every)))

    @property
    def disagreement(self) -> str:
        """The BD-rates of all interpolations where they differ by more than 5 %; else empty."""
        found = {fit: float(np.expm1(gap)) for fit, gap in self.by_fit.items()}
        if max(found.values()) - min(found.values()) <= _DISAGREE:
            return ""
        each = ", ".join(f"{value:+.1%} by {fit}" for fit, value in found.items())
        return f"interpolations disagree on the BD-rate ({each}): measure more points"


@dataclass(frozen=True)
class Comparison:
    """One curve against another: None where they cannot be compared, and why not."""

    bd_rate: float | None
    bd_quality: float | None
    overlap: float | None
    #: Why a figure is missing; empty where none is.
    reason: str = ""
    #: Ends of `bd_rate_range`.
    bd_rate_low: float | None = None
    bd_rate_high: float | None = None
    #: A warning where interpolations disagree.
    remark: str = ""


def compare(anchor: Curve, test: Curve, better: Better = "higher") -> Comparison:
    """BD-rate, BD-quality and overlap in quality of two curves, as far as they have any."""
    reasons: list[str] = []

    def known(measure: Callable[..., Found]) -> Found | None:
        try:
            return measure(anchor, test, better=better)
        except InputError as error:
            reasons.append(str(error))
            return None

    gaps = known(_Gaps.of)
    rate = None if gaps is None else float(np.expm1(gaps.by_fit[_FITS[0]]))
    low, high = (None, None) if gaps is None else gaps.ends
    figures = rate, known(bd_quality), known(overlap)
    remark = "" if gaps is None else gaps.disagreement
    return Comparison(*figures, "; ".join(dict.fromkeys(reasons)), low, high, remark)


def overlap(
    anchor: Curve,
    test: Curve,
    over: Literal["quality", "rate"] = "quality",
    better: Better = "higher",
) -> float:
    """Share of the smaller curve's range, of quality or of log rate, that both cover; 0 to 1.

    Raises
    ------
    InputError
        If there are too few points.
    """
    check_choice("over", over, ("quality", "rate"))
    axes = _by_quality if over == "quality" else _by_log_rate
    low, high, smaller = _shared(axes(anchor, better)[0], axes(test, better)[0])
    return max(0.0, high - low) / smaller


def hull(points: Curve) -> list[tuple[float, float]]:
    """Upper convex hull of points (rate, quality), by rising rate: reachable by switching.

    From the lowest rate to the best quality; each point has a smaller slope behind it than
    before it. Points of infinite quality are left out.

    Raises
    ------
    InputError
        If there are fewer than two points of different rate.
    """
    kept: list[tuple[float, float]] = []
    for rate, quality in _rising(points).tolist():
        while len(kept) > 1 and _slope(kept[-2], kept[-1]) <= _slope(kept[-2], (rate, quality)):
            kept.pop()
        kept.append((rate, quality))
    return kept


def _slope(one: tuple[float, float], two: tuple[float, float]) -> float:
    return (two[1] - one[1]) / (two[0] - one[0])


def rate_at(points: Curve, quality: float, better: Better = "higher") -> float | None:
    """Rate at which a curve reaches a quality, interpolated as in `bd_rate`.

    None outside the range of qualities that were measured: nothing is extrapolated.

    Raises
    ------
    InputError
        If there are too few points.
    """
    from scipy.interpolate import PchipInterpolator

    qualities, rates = _by_quality(points, better)
    wanted = quality if better == "higher" else -quality
    if not qualities[0] <= wanted <= qualities[-1]:
        return None
    return float(np.exp(PchipInterpolator(qualities, rates)(wanted)))


def mean_curve(curves: Sequence[Curve], steps: int = 33) -> list[tuple[float, float]]:
    """Mean quality of several curves at rates that all of them cover, evenly in log rate.

    Empty where they share no range of rates.

    Raises
    ------
    InputError
        If one has too few points.
    """
    from scipy.interpolate import PchipInterpolator

    axes = [_logarithmic(_by_rate(curve)) for curve in curves]
    low, high = max(x[0] for x, _ in axes), min(x[-1] for x, _ in axes)
    if low >= high:
        return []
    rates = np.linspace(low, high, steps)
    qualities = np.mean([PchipInterpolator(*pair)(rates) for pair in axes], axis=0)
    return list(zip(np.exp(rates).tolist(), qualities.tolist(), strict=True))


Axes = tuple[Float64, Float64]


def _enough(axes: Axes) -> Axes:
    if axes[0].size < LEAST_POINTS:
        raise InputError(
            f"a curve has {axes[0].size} points of rising rate and quality; curves are compared "
            f"from {LEAST_POINTS} points on: add settings to its sweep"
        )
    return axes


def _without_one(axes: Axes) -> list[Axes]:
    """The curve without each of its inner points in turn."""
    return [(np.delete(axes[0], k), np.delete(axes[1], k)) for k in range(1, axes[0].size - 1)]


def _by_quality(points: Curve, better: Better) -> Axes:
    """Qualities, larger ones better, and log rates."""
    curve = _rising(_upwards(points, better))
    return curve[:, 1], np.log(curve[:, 0])


def _by_log_rate(points: Curve, better: Better) -> Axes:
    sign = 1 if better == "higher" else -1
    rates, qualities = _logarithmic(_by_rate(_upwards(points, better)))
    return rates, sign * qualities


def _upwards(points: Curve, better: Better) -> Curve:
    """The points with qualities of which the larger is better."""
    check_choice("better", better, get_args(Better))
    return points if better == "higher" else [(rate, -quality) for rate, quality in points]


def _logarithmic(curve: Float64) -> Axes:
    return np.log(curve[:, 0]), curve[:, 1]


def _shared(one: Float64, two: Float64) -> tuple[float, float, float]:
    """Ends of the range that both cover, and the smaller of both ranges."""
    low, high = max(one[0], two[0]), min(one[-1], two[-1])
    return float(low), float(high), float(min(np.ptp(one), np.ptp(two)))


def _mean_gap(anchor: Axes, test: Axes, what: str, fit: Fit) -> float:
    """Mean of test minus anchor over the range of x that both cover."""
    low, high = _joint(anchor, test, what)
    return _mean(test, low, high, fit) - _mean(anchor, low, high, fit)


def _joint(anchor: Axes, test: Axes, what: str) -> tuple[float, float]:
    """Ends of the range of x that both cover; `InputError` where that is too small."""
    low, high, smaller = _shared(anchor[0], test[0])
    if high - low < LEAST_OVERLAP * smaller:
        raise InputError(
            f"the curves overlap over {max(0.0, (high - low) / smaller):.0%} of their {what}; "
            f"at least {LEAST_OVERLAP:.0%} is needed: extend their sweeps towards each other"
        )
    return low, high


def _mean(curve: Axes, low: float, high: float, fit: Fit) -> float:
    """Mean of an interpolated curve over a range of x."""
    from numpy.polynomial import Polynomial
    from scipy.interpolate import Akima1DInterpolator, PchipInterpolator

    check_choice("fit", fit, _FITS)
    if fit == "polynomial":
        area = Polynomial.fit(*curve, 3).integ()
        return float(area(high) - area(low)) / (high - low)
    interpolator = PchipInterpolator if fit == "pchip" else Akima1DInterpolator
    return float(interpolator(*curve).integrate(low, high)) / (high - low)


def _by_rate(points: Curve) -> Float64:
    """Points of strictly rising rate, finite; of equal rates the better; at least two."""
    distinct = dict(sorted((r, q) for r, q in points if np.isfinite(q) and r > 0))
    if len(distinct) < 2:
        raise InputError("a curve needs at least 2 points of different rate")
    return np.array(list(distinct.items()))


def _rising(points: Curve) -> Float64:
    """Points by rate with quality strictly rising, finite; at least two of them."""
    curve = _by_rate(points)
    best_before = np.maximum.accumulate(np.concatenate([[-np.inf], curve[:-1, 1]]))
    rising = curve[curve[:, 1] > best_before]
    if len(rising) < 2:
        raise InputError("a curve needs at least 2 points of rising rate and quality")
    return rising
