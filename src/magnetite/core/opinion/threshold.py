"""Thresholds by an adaptive test with two alternatives, and psychometric functions.

King-Smith et al., Vision Research 34(7), 1994, doi:10.1016/0042-6989(94)90039-6 (choice of levels
by the posterior mean); Wichmann and Hill, Perception and Psychophysics 63(8), 2001,
doi:10.3758/BF03194544 (fit, lapses).
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.calibrate.fitting import Estimate
from magnetite.core.opinion.rating import mean_with_interval

#: Chance of a right answer by guessing, and of a wrong one by lapse.
GUESS, LAPSE = 0.5, 0.02
#: Slope that levels are chosen by, for the logarithm of the level; where a level tells most, in
#: slopes above the threshold; points of the grid of thresholds, and its margin in logarithms.
SLOPE, TELLS_MOST, GRID, MARGIN = 10.0, 1.0, 121, 0.5
#: Slopes that a fit may have.
_SLOPES = np.geomspace(5, 20, 13)


def right_answers(level: Float64, threshold: float, slope: float) -> Float64:
    """Chance of a right answer, shape of the levels: logistic in the logarithm of the level.

    At the threshold it is half way from guessing to all but lapses: 74 %.
    """
    steepness = slope * (np.log(level) - math.log(threshold))
    return np.asarray(GUESS + (1 - GUESS - LAPSE) / (1 + np.exp(-steepness)))


def next_level(levels: Sequence[float], shown: Sequence[int], right: Sequence[bool]) -> int:
    """Number of the level that is shown next.

    The one nearest to where it tells most about a threshold at the posterior mean, the thresholds
    being equally likely on a grid of logarithms at first.

    Parameters
    ----------
    levels : sequence of float
        Rising, above 0.
    shown : sequence of int
        Numbers of the levels shown so far.
    right : sequence of bool
        Whether each was answered rightly.
    """
    logs = np.log(np.array(levels))
    grid = np.linspace(logs[0] - MARGIN, logs[-1] + MARGIN, GRID)
    weight: Float64 = np.zeros(GRID)
    for level, correct in zip(shown, right, strict=True):
        rising = 1 / (1 + np.exp(-SLOPE * (logs[level] - grid)))
        chance = GUESS + (1 - GUESS - LAPSE) * rising
        weight = weight + np.log(chance if correct else 1 - chance)
    posterior = np.exp(weight - weight.max())
    mean = float(posterior @ grid / posterior.sum())
    return int(np.abs(logs - (mean + TELLS_MOST / SLOPE)).argmin())


def fitted_threshold(levels: Float64, right: Float64) -> tuple[float, float, float]:
    """Threshold, its logarithm's standard error, and slope, by the likelihood.

    The threshold is the posterior mean in logarithms over slopes and thresholds that are equally
    likely in logarithms; its error is their spread.

    Parameters
    ----------
    levels, right : float arrays, shape (n,)
        Level of each trial, and 1 for a right answer, 0 for a wrong one.
    """
    logs = np.log(levels)
    grid = np.linspace(logs.min() - MARGIN, logs.max() + MARGIN, 241)
    steepness = _SLOPES[:, np.newaxis, np.newaxis] * (logs - grid[:, np.newaxis])
    chance = GUESS + (1 - GUESS - LAPSE) / (1 + np.exp(-steepness))
    likelihood = (right * np.log(chance) + (1 - right) * np.log(1 - chance)).sum(axis=2)
    posterior = np.exp(likelihood - likelihood.max())
    posterior /= posterior.sum()
    by_threshold, by_slope = posterior.sum(axis=0), posterior.sum(axis=1)
    mean = float(by_threshold @ grid)
    error = math.sqrt(float(by_threshold @ (grid - mean) ** 2))
    slope = math.exp(float(by_slope @ np.log(_SLOPES)))
    return math.exp(mean), error, slope


def pooled_threshold(found: Sequence[tuple[float, float]]) -> Estimate:
    """Geometric mean of raters' thresholds with a 95 % interval.

    Parameters
    ----------
    found : sequence of (threshold, standard error of its logarithm)
        Of one rater, the interval is that of the fit; of several, that of their mean.
    """
    logs = np.log([threshold for threshold, _ in found])
    mean = mean_with_interval(logs)
    if logs.size == 1:
        mean = Estimate.of(mean.value, found[0][1])
    return Estimate(*(math.exp(end) for end in (mean.value, mean.low, mean.high)))
