"""How well one figure tells accepted from rejected pictures, and how sure that is."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from magnetite.core.arrays import Bools, Float64
from magnetite.core.calibrate.fitting import NORMAL_95


class Share(NamedTuple):
    """A share of cases and its 95 % interval."""

    share: float
    low: float
    high: float


def share(hits: int, count: int) -> Share:
    """Interval of Clopper and Pearson (Biometrika 26(4), 1934, doi:10.1093/biomet/26.4.404)."""
    from scipy.special import betaincinv

    if count == 0:
        return Share(math.nan, 0.0, 1.0)
    low = 0.0 if hits == 0 else float(betaincinv(hits, count - hits + 1, 0.025))
    high = 1.0 if hits == count else float(betaincinv(hits + 1, count - hits, 0.975))
    return Share(hits / count, low, high)


def area(values: Float64, accepted: Bools) -> Share:
    """Area under the ROC curve: the chance that an accepted picture's value is the higher one.

    Ties count half; the interval is that of Hanley and McNeil (Radiology 143(1), 1982,
    doi:10.1148/radiology.143.1.7063747), cut to 0 to 1. Where the classes do not overlap its error
    is 0, and the lower end is that of a share of the smaller class.
    """
    good, bad = values[accepted], values[~accepted]
    above = (good[:, np.newaxis] > bad).sum() + 0.5 * (good[:, np.newaxis] == bad).sum()
    a = float(above) / (good.size * bad.size)
    smaller = min(good.size, bad.size)
    if a in (0.0, 1.0):
        found = share(smaller if a else 0, smaller)
        return Share(a, found.low, found.high)
    q1, q2 = a / (2 - a), 2 * a * a / (1 + a)
    variance = a * (1 - a) + (good.size - 1) * (q1 - a * a) + (bad.size - 1) * (q2 - a * a)
    reach = NORMAL_95 * math.sqrt(variance / (good.size * bad.size))
    return Share(a, max(0.0, a - reach), min(1.0, a + reach))


def threshold(values: Float64, accepted: Bools, false_accepts: float) -> float:
    """The lowest value that is accepted so that at most a share of the rejected pictures is.

    It lies half-way between two values that were seen.
    """
    seen = np.unique(values)
    cuts = np.concatenate([(seen[:-1] + seen[1:]) / 2, [np.nextafter(seen[-1], np.inf)]])
    cuts = np.concatenate([[np.nextafter(seen[0], -np.inf)], cuts])
    bad = values[~accepted]
    for cut in cuts:
        if float((bad >= cut).mean()) <= false_accepts:
            return float(cut)
    return float(cuts[-1])
