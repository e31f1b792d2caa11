"""Rate-distortion curves and their comparison."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from magnetite.core.chain import parse_sweep
from magnetite.core.codecs.stream import compress
from magnetite.core.errors import ChainError, InputError
from magnetite.core.picture import Picture, Samples, as_picture
from magnetite.core.scoring import score

#: Two curves are compared only where they share at least this much of their joint range.
LEAST_OVERLAP = 0.3


@dataclass(frozen=True)
class Point:
    """One coded picture: the codec's step, the rate of its stream and its scores."""

    step: str
    bpp: float
    bytes: int
    scores: dict[str, float]


def sweep_steps(text: str) -> list[str]:
    """All steps of a codec's sweep in canonical spelling: `dct step=4dn,8dn` gives two.

    A codec without its quality setting sweeps the points that it declares.

    Raises
    ------
    ChainError
        If the text cannot be read or is a chain of several steps.
    """
    first = parse_sweep(text, "codec", complete=False)[0].steps[0]
    quality = first.method.traits["quality"]
    if quality not in dict(first.settings):
        text = f"{text} {quality}={first.method.traits['points']}"
    chains = parse_sweep(text, "codec")
    if len(chains[0].steps) > 1:
        raise ChainError(f"{text!r} is a chain; a curve takes one codec at a time")
    return [str(chain) for chain in chains]


def curve(
    reference: Picture | Samples,
    codec: str,
    metrics: str = "psnr,ssim",
    *,
    source: Picture | Samples | None = None,
) -> list[Point]:
    """Points of a rate-distortion curve, by rising rate.

    Parameters
    ----------
    reference : Picture or array
        What the decoded pictures are scored against.
    codec : str
        A codec with a sweep of its settings, `dct step=2dn,4dn,8dn`; without its quality
        setting, the points that the codec declares.
    metrics : str
        As for `score`.
    source : Picture or array, optional
        What is coded, if it is not the reference itself: a noisy or denoised version.

    Raises
    ------
    ChainError, PictureError
        If codec or metrics cannot be read or do not suit the picture.
    """
    clean = as_picture(reference)
    coded = clean if source is None else as_picture(source)
    points = [point(clean, step, metrics, coded) for step in sweep_steps(codec)]
    return sorted(points, key=lambda p: p.bpp)


def point(reference: Picture, step: str, metrics: str, source: Picture) -> Point:
    """One point: `source` coded by `step` and scored against `reference`."""
    coded = compress(source, step)
    scores = score(reference, coded.picture, metrics)
    return Point(coded.step, coded.bpp, len(coded.data), dict(scores))


def bd_rate(anchor: Sequence[tuple[float, float]], test: Sequence[tuple[float, float]]) -> float:
    """Mean difference of rate at equal quality, as a share of the anchor's rate.

    Bjontegaard's measure (VCEG-M33, 2001) with piecewise cubic interpolation (PCHIP) of log
    rate over quality: -0.25 says that `test` needs 25 % less rate than `anchor`.

    Parameters
    ----------
    anchor, test : sequences of (rate, quality)
        Rates above 0, quality rising with rate, at least 2 points each. Points that a point
        of lower rate equals or surpasses are left out.

    Raises
    ------
    InputError
        If there are too few points, or the qualities overlap over less than 30 % of the
        smaller range.
    """
    one, two = _rising(anchor), _rising(test)
    mean = _mean_gap((one[:, 1], np.log(one[:, 0])), (two[:, 1], np.log(two[:, 0])), "quality")
    return float(np.expm1(mean))


def bd_quality(anchor: Sequence[tuple[float, float]], test: Sequence[tuple[float, float]]) -> float:
    """Mean difference of quality at equal rate, in the quality's unit; positive: `test` is better.

    Interpolates quality over log rate; arguments and errors as in `bd_rate`.
    """
    one, two = _by_rate(anchor), _by_rate(test)
    return _mean_gap((np.log(one[:, 0]), one[:, 1]), (np.log(two[:, 0]), two[:, 1]), "rate")


def rate_at(points: Sequence[tuple[float, float]], quality: float) -> float | None:
    """Lowest rate that reaches a quality, interpolated as in `bd_rate`; None if none does.

    The lowest rate measured is returned where even that one is good enough.
    """
    from scipy.interpolate import PchipInterpolator

    curve = _rising(points)
    if quality > curve[-1, 1]:
        return None
    if quality <= curve[0, 1]:
        return float(curve[0, 0])
    return float(np.exp(PchipInterpolator(curve[:, 1], np.log(curve[:, 0]))(quality)))


Axes = tuple[NDArray[np.float64], NDArray[np.float64]]


def _mean_gap(anchor: Axes, test: Axes, what: str) -> float:
    """Mean of test minus anchor over the range of x that both cover."""
    from scipy.interpolate import PchipInterpolator

    low = max(anchor[0][0], test[0][0])
    high = min(anchor[0][-1], test[0][-1])
    smaller = min(np.ptp(anchor[0]), np.ptp(test[0]))
    if high - low < LEAST_OVERLAP * smaller:
        raise InputError(
            f"the curves overlap over {max(0.0, (high - low) / smaller):.0%} of their {what}; "
            f"at least {LEAST_OVERLAP:.0%} is needed: extend their sweeps towards each other"
        )
    areas = [float(PchipInterpolator(x, y).integrate(low, high)) for x, y in (anchor, test)]
    return float((areas[1] - areas[0]) / (high - low))


def _by_rate(points: Sequence[tuple[float, float]]) -> NDArray[np.float64]:
    """Points of strictly rising rate, finite; of equal rates the better; at least two."""
    distinct = dict(sorted((r, q) for r, q in points if np.isfinite(q) and r > 0))
    if len(distinct) < 2:
        raise InputError("a curve needs at least 2 points of different rate")
    return np.array(list(distinct.items()))


def _rising(points: Sequence[tuple[float, float]]) -> NDArray[np.float64]:
    """Points by rate with quality strictly rising, finite; at least two of them."""
    curve = _by_rate(points)
    best_before = np.maximum.accumulate(np.concatenate([[-np.inf], curve[:-1, 1]]))
    rising = curve[curve[:, 1] > best_before]
    if len(rising) < 2:
        raise InputError("a curve needs at least 2 points of rising rate and quality")
    return rising
