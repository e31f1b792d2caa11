"""Guarantees for the next picture, from exchangeable pictures that were tried: no distribution."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

#: Decimal digits of bounds, so that ties are exact: 3 of 3 promise 20 % with 99.2 %.
_DIGITS = 12


def lower_bound(passed: int, of: int, confidence: float) -> float:
    """Exact lower confidence bound of a share.

    Clopper and Pearson, Biometrika 26(4), 1934, doi:10.1093/biomet/26.4.404, one-sided.

    Parameters
    ----------
    passed, of : int
        Independent pictures that met a need, out of how many.
    confidence : float
        0 to 1.
    """
    from scipy.special import betaincinv

    if passed == 0:
        return 0.0
    return round(float(betaincinv(passed, of - passed + 1, 1 - confidence)), _DIGITS)


def pictures_needed(share: float, confidence: float) -> int:
    """Fewest pictures that can guarantee a share, when all of them pass: 59 for 95 % with 95 %."""
    if share <= 0:
        return 1
    return math.ceil(round(math.log(1 - confidence) / math.log(share), 9))


def strongest(counts: Sequence[tuple[int, int]], share: float, confidence: float) -> int | None:
    """Position of the last setting that is guaranteed, or None.

    Settings are tested from the mildest on, each at the full confidence, until one fails: testing
    in a fixed sequence spends no confidence on the number of settings (Bauer, Statistics in
    Medicine 10(6), 1991, doi:10.1002/sim.4780100609).

    Parameters
    ----------
    counts : sequence of (passed, of)
        For each setting, in an order that does not follow from the scores.
    share : float
        Of the pictures that are to meet the need.
    confidence : float
    """
    last = None
    for position, (passed, of) in enumerate(counts):
        if lower_bound(passed, of, confidence) < share:
            break
        last = position
    return last


def tolerance_bound(values: Sequence[float], share: float, confidence: float) -> float | None:
    """A value that at least a share of all pictures reaches, with a confidence.

    The order statistic of rank r, the largest with P(Binomial(n, 1 - share) >= r) >= confidence
    (Wilks, Annals of Mathematical Statistics 12(1), 1941, doi:10.1214/aoms/1177731788).

    Parameters
    ----------
    values : sequence of float
        Larger is better; may be infinite.
    share, confidence : float

    Returns
    -------
    float or None
        None where there are too few values.
    """
    from scipy.special import betainc

    ordered = np.sort(np.asarray(values, float))
    ranks = np.arange(1, ordered.size + 1)
    # P(Binomial(n, q) >= r) is the regularised incomplete beta function I_q(r, n - r + 1).
    sure = betainc(ranks, ordered.size - ranks + 1, 1 - share) >= confidence
    return float(ordered[np.flatnonzero(sure)[-1]]) if sure.any() else None
