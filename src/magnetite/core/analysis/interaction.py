"""Does the order of treatments change from group to group? A test by signs."""

from __future__ import annotations

import itertools

import numpy as np

from magnetite.core.analysis.statistics import beyond_rounding
from magnetite.core.arrays import Float64

#: Units up to which all signs are tried, and draws of signs beyond.
_ALL, _DRAWS = 12, 4096
#: Units below which no test can show anything: of 5, all signs agree in 1 of 16 cases.
LEAST_UNITS = 5


def interaction(values: Float64) -> float | None:
    """Chance of so large an interaction of treatments and groups, if there is none.

    The means of treatments and of groups are subtracted from each unit; the residual has mean 0
    where the differences of treatments are the same in all groups. The statistic is the sum of
    squares of the mean residual over units; its distribution is that under random signs of the
    units, exact where the residual is symmetric about 0 (Good, Permutation, Parametric and
    Bootstrap Tests of Hypotheses, 3rd ed., 2005, chapter 3).

    Parameters
    ----------
    values : float array, shape (units, treatments, groups)

    Returns
    -------
    float or None
        None for fewer than five units, two treatments or two groups.
    """
    units, treatments, groups = values.shape
    if units < LEAST_UNITS or treatments < 2 or groups < 2:
        return None
    by_treatment, by_group = (values.mean(axis=axis, keepdims=True) for axis in (2, 1))
    left = values - by_treatment - by_group + values.mean(axis=(1, 2), keepdims=True)
    flat = beyond_rounding(left, values).reshape(units, -1)
    if units <= _ALL:
        # A sign of all units changes nothing: the first one keeps its own.
        rest = np.array(list(itertools.product((1.0, -1.0), repeat=units - 1)))
        signs = np.concatenate([np.ones((len(rest), 1)), rest], axis=1)
    else:
        rng = np.random.default_rng(0)
        drawn = rng.choice((1.0, -1.0), (_DRAWS - 1, units))
        signs = np.concatenate([np.ones((1, units)), drawn])
    sums = np.square(signs @ flat).sum(axis=1)
    return float(np.mean(sums >= sums[0] * (1 - 1e-12)))
