"""Mean opinion scores, and raters whose grades do not follow those of the others.

Recommendation ITU-R BT.500-14 (2019), Annex 1, section 2; Recommendation ITU-T P.913 (2021),
section 11.4 (correlation of a rater with the others).
"""

from __future__ import annotations

import math

import numpy as np

from magnetite.core.analysis.statistics import interval
from magnetite.core.arrays import Float64
from magnetite.core.calibrate.fitting import Estimate
from magnetite.core.compute.jackknife import jackknife_error

#: Shares of BT.500: of grades far from the mean, and of their imbalance.
_FAR, _ONE_SIDED = 0.05, 0.3
#: Chance of a normal grade beyond 2 sd, and chance below which their number is not explained.
_BEYOND, _RARE = 0.0455, 0.01
#: Standard errors by which a correlation is surely below the least one: 5 % of the normal.
_SURE = 1.645
#: The ends of the scale (BT.500).
_WORST, _BEST = 1.0, 5.0
#: Least correlation with the mean of the others (P.913).
LEAST_CORRELATION = 0.75


def mean_with_interval(values: Float64) -> Estimate:
    """Mean of values, shape (n,), with its 95 % interval (see `interval`).

    Without ends for a single value, and for values that are all the same: of the few steps of a
    scale several raters choose one by chance, and that does not make the mean certain.
    """
    found = interval(values.tolist())
    if not np.ptp(values) > 0:
        return Estimate(found.mean, math.nan, math.nan)
    return Estimate(found.mean, found.low, found.high)


def opinion_scores(grades: Float64) -> tuple[list[Estimate], bool]:
    """Mean grade of each picture over all raters, with its 95 % interval.

    Where some raters did not grade every picture, plain means would be over different raters. A
    grade is then modelled as the sum of a picture's score and a rater's deviation, fitted by least
    squares with deviations of zero mean (Janowski and Pinson, IEEE Trans. Multimedia
    17(12), 2015, doi:10.1109/TMM.2015.2484963); the interval is Student's with the error of
    leaving out each rater in turn (jackknife). Of complete grades both are the mean and its error.

    Parameters
    ----------
    grades : float array, shape (raters, pictures)
        NaN where a rater gave none; every picture has at least one.

    Returns
    -------
    scores : list of Estimate
        Without ends as `mean_with_interval`, and where the interval takes more raters.
    alike : bool
        Whether all are comparable; False where no chain of grades connects raters and pictures,
        so that deviations cannot be estimated and plain means are returned.
    """
    from scipy.special import stdtrit

    known = np.isfinite(grades)
    plain = [mean_with_interval(own[one]) for own, one in zip(grades.T, known.T, strict=True)]
    scores = None if known.all() else _scores(grades)
    if scores is None:
        return plain, bool(known.all())
    count, raters = known.sum(axis=0), len(grades)
    parts = np.full(grades.shape, math.nan)
    for rater in range(raters):
        rest = np.delete(grades, rater, axis=0)
        seen = np.isfinite(rest).any(axis=0)
        if (part := _scores(rest[:, seen])) is not None:
            parts[rater, seen] = part
    reaches = stdtrit(count - 1, 0.975) * jackknife_error(parts)
    found = []
    for score, one, estimate in zip(scores.tolist(), reaches.tolist(), plain, strict=True):
        reach = one if math.isfinite(estimate.low) else math.nan
        found.append(Estimate(min(max(score, _WORST), _BEST), score - reach, score + reach))
    return found, True


def _scores(grades: Float64) -> Float64 | None:
    """Score of each picture, fitted with the raters' deviations; None if they are not separable."""
    raters, pictures = grades.shape
    rater, picture = np.nonzero(np.isfinite(grades))
    design = np.zeros((rater.size + 1, pictures + raters))
    rows = np.arange(rater.size)
    design[rows, picture] = design[rows, pictures + rater] = 1
    design[-1, pictures:] = 1
    wanted = np.append(grades[rater, picture], 0.0)
    found, _, rank, _ = np.linalg.lstsq(design, wanted, rcond=None)
    return np.asarray(found[:pictures]) if rank == pictures + raters else None


def screened(grades: Float64) -> dict[int, str]:
    """Raters who are left out, with the reason.

    By BT.500, a rater is left out whose grades are beyond 2 sd of a picture's mean (√20 sd where
    the grades of the picture are not normal, by their kurtosis) for more than 5 % of the
    pictures, about as often above as below, and more often than chance explains (below 1 %, which
    few pictures do not reach by themselves); by P.913, one whose grades correlate less than 0.75
    with the mean of the others, by more than the correlation's own error.

    Parameters
    ----------
    grades : float array, shape (raters, pictures)
        NaN where a rater gave none.
    """
    from scipy.special import bdtrc

    known = np.isfinite(grades)
    filled, count = np.where(known, grades, 0.0), known.sum(axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = filled.sum(axis=0) / count
        centred = np.where(known, grades - mean, 0.0)
        second, fourth = ((centred**power).sum(axis=0) / count for power in (2, 4))
        sd = np.sqrt((centred**2).sum(axis=0) / (count - 1))
        kurtosis = np.where(second > 0, fourth / second**2, np.nan)
        others = (filled.sum(axis=0) - filled) / (count - known)
    reach = np.where((kurtosis >= 2) & (kurtosis <= 4), 2.0, math.sqrt(20)) * sd
    above, below = ((known & (sd > 0) & (sign * centred >= reach)) for sign in (1, -1))
    found: dict[int, str] = {}
    for rater, own in enumerate(grades):
        high, low = int(above[rater].sum()), int(below[rater].sum())
        far, given = high + low, int(np.isfinite(own).sum())
        rare = float(bdtrc(far - 1, given, _BEYOND)) < _RARE if far else False
        if far > _FAR * given and abs(high - low) < _ONE_SIDED * far and rare:
            found[rater] = (
                f"{far} of {given} grades are far from the others', {high} above and {low} below "
                "(BT.500)"
            )
            continue
        correlation = _correlation(own, others[rater])
        if correlation is not None and _surely_below(correlation, given):
            found[rater] = (
                f"grades correlate {correlation:.2f} with the mean of the others, less than "
                f"{LEAST_CORRELATION:g} (P.913)"
            )
    return found


def _surely_below(correlation: float, count: int) -> bool:
    """Whether a correlation is below the least one beyond its own error (Fisher's z, 5 %)."""
    bounded = min(max(correlation, -0.999), 0.999)
    away = math.atanh(LEAST_CORRELATION) - math.atanh(bounded)
    return away * math.sqrt(max(0, count - 3)) > _SURE


def _correlation(one: Float64, other: Float64) -> float | None:
    both = np.isfinite(one) & np.isfinite(other)
    if both.sum() < 3 or one[both].std() == 0 or other[both].std() == 0:
        return None if both.sum() < 3 or other[both].std() == 0 else 0.0
    return float(np.corrcoef(one[both], other[both])[0, 1])
