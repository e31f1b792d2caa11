"""Scale values from comparisons of pairs: Bradley-Terry, and Thurstone's case V.

Bradley and Terry, Biometrika 39(3/4), 1952, doi:10.2307/2334029; Thurstone, Psychological Review
34(4), 1927, doi:10.1037/h0070288; Firth, Biometrika 80(1), 1993, doi:10.1093/biomet/80.1.27.
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np

from magnetite.core.arrays import Bools, Float64
from magnetite.core.calibrate.fitting import NORMAL_95, Estimate

Model = Literal["bradley-terry", "thurstone"]
#: Difference that 3 of 4 prefer, on the scale of each model: 1 JND.
JND_SD = 0.6744897501960817
_JND = {"bradley-terry": math.log(3), "thurstone": JND_SD}
_STEPS, _ENOUGH = 60, 1e-8
_DRAWS = 400
#: Chance below which the spread of raters is not that of independent answers.
_BY_CHANCE = 0.05


def scale_values(wins: Float64, model: Model = "thurstone") -> Float64:
    """Scale values in just noticeable differences, of mean 0.

    Maximum likelihood with Firth's correction: each pair counts as if half its leverage had been
    answered more each way. So a picture that always wins has a finite value, and the values are
    less biased.

    Parameters
    ----------
    wins : float array, shape (..., n, n)
        How often the row's picture was preferred to the column's; a tie is half a win for each.
        All pictures are connected by comparisons.
    model : "thurstone" or "bradley-terry"
        Normal or logistic distribution of the differences.

    Returns
    -------
    float array, shape (..., n)
    """
    return _fitted(wins, model)[0]


def _fitted(wins: Float64, model: Model) -> tuple[Float64, Float64]:
    """Scale values in JND, and their covariance by the model's information.

    Of wins of shape (..., n, n): shapes (..., n) and (..., n, n).
    """
    total = wins + wins.swapaxes(-1, -2)
    values = np.zeros(wins.shape[:-1])
    for _ in range(_STEPS):
        difference = values[..., np.newaxis] - values[..., np.newaxis, :]
        chance, density = _chance(difference, model)
        spread = np.maximum(chance * (1 - chance), 1e-12)
        weight = total * density**2 / spread
        inverse = _inverse(weight.sum(axis=-1)[..., np.newaxis] * np.eye(wins.shape[-1]) - weight)
        own = np.diagonal(inverse, axis1=-2, axis2=-1)
        leverage = weight * (own[..., np.newaxis] + own[..., np.newaxis, :] - 2 * inverse)
        counted = wins + leverage / 2
        residual = (counted - (total + leverage) * chance) * density / spread
        move = (inverse @ residual.sum(axis=-1)[..., np.newaxis])[..., 0]
        largest = np.abs(move).max(axis=-1, keepdims=True)
        values = values + move / np.maximum(1.0, largest)
        if largest.max(initial=0.0) < _ENOUGH:
            break
    unit = _JND[model]
    centred = values - values.mean(axis=-1, keepdims=True)
    return np.asarray(centred / unit), inverse / unit**2


def _inverse(information: Float64) -> Float64:
    """Inverse for values whose sum is 0: a matrix of ones fixes their level."""
    count = information.shape[-1]
    level = np.trace(information, axis1=-2, axis2=-1)[..., np.newaxis, np.newaxis] / count**2
    level = np.where(level == 0, 1.0, level)
    return np.asarray(np.linalg.inv(information + level) - 1 / (level * count**2))


def _chance(difference: Float64, model: Model) -> tuple[Float64, Float64]:
    """Chance that the first one is preferred, and its derivative."""
    from scipy.special import expit, ndtr

    if model == "bradley-terry":
        chance = expit(difference)
        return chance, chance * (1 - chance)
    density = np.exp(-(difference**2) / 2) / math.sqrt(2 * math.pi)
    return ndtr(difference), np.maximum(density, 1e-12)


def chances(values: Float64, model: Model = "thurstone") -> Float64:
    """Chance that each row's picture is preferred to each column's, of values in JND."""
    difference = _JND[model] * (values[:, np.newaxis] - values)
    return _chance(np.asarray(difference), model)[0]


def connected(wins: Float64) -> Bools:
    """Whether comparisons connect all pictures, for wins of shape (..., n, n)."""
    count = wins.shape[-1]
    reached = (wins + wins.swapaxes(-1, -2) > 0) | np.eye(count, dtype=bool)
    for _ in range(count.bit_length()):  # paths of twice the length each time
        reached = reached @ reached
    return np.asarray(reached.all(axis=(-2, -1)))


def scale_intervals(
    by_rater: Float64, model: Model = "thurstone", zero: int | None = None
) -> list[Estimate]:
    """Scale values with 95 % intervals, from drawing raters again (bootstrap).

    The errors are those of the model, whose answers are independent. Where raters differ by more
    than chance explains (chi-square, 5 %), the errors are larger by as much, and the interval is
    Student's of one degree of freedom less than raters.

    Parameters
    ----------
    by_rater : float array, shape (raters, n, n)
        Wins of each rater; two raters or more for an interval.
    model : "thurstone" or "bradley-terry"
    zero : int, optional
        Picture whose value is 0; the mean is if left out.
    """
    from scipy.special import chdtri, stdtrit

    def anchored(wins: Float64) -> Float64:
        values = scale_values(wins, model)
        return values if zero is None else values - values[..., zero : zero + 1]

    every, count = by_rater.sum(axis=0), len(by_rater)
    values, covariance = anchored(every), _fitted(every, model)[1]
    if count < 2:
        return [Estimate(float(value), math.nan, math.nan) for value in values]
    rng = np.random.default_rng(0)
    wins = by_rater[rng.integers(0, count, (_DRAWS, count))].sum(axis=1)
    drawn = anchored(wins[connected(wins)])
    size = len(values)
    shift = np.eye(size) - (1 / size if zero is None else np.eye(size)[zero])
    least = np.sqrt(np.diag(shift @ covariance @ shift.T).clip(0))
    # Variance between raters over that of the model, of all values together. Of raters who stopped
    # early few draws connect all pictures, which say little of their spread.
    some, freedom = least > 0, (count - 1) * (size - 1)
    ratio = 0.0
    if len(drawn):
        spread = np.var(drawn, axis=0)[some] / least[some] ** 2
        ratio = float(spread.mean()) * count / (count - 1)
    reach = NORMAL_95
    if len(drawn) > _DRAWS / 2 and ratio * freedom > float(chdtri(freedom, _BY_CHANCE)):
        reach = float(stdtrit(count - 1, 0.975)) * math.sqrt(ratio)
    half = reach * least
    return [
        Estimate(float(v), float(v - h), float(v + h)) for v, h in zip(values, half, strict=True)
    ]
