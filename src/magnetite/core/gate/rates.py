"""How well a figure separates accepted from rejected pictures, and how sure that is.

Pictures of one reference resemble each other, so the independent units are the references: every
interval and bound here holds for new pictures of new references.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from magnetite.core.analysis.guarantee import lower_bound, pictures_needed
from magnetite.core.analysis.statistics import ranks
from magnetite.core.arrays import Bools, Float64, Indices
from magnetite.core.compute.jackknife import jackknife_error
from magnetite.core.solve.bisection import zero


class Share(NamedTuple):
    """A figure and its 95 % interval."""

    share: float
    low: float
    high: float


def share(hits: float, count: float) -> Share:
    """Interval of Clopper and Pearson (Biometrika 26(4), 1934, doi:10.1093/biomet/26.4.404).

    Parameters
    ----------
    hits, count : float
        Independent cases; effective numbers need not be whole.
    """
    from scipy.special import betaincinv

    if count == 0:
        return Share(math.nan, 0.0, 1.0)
    low = 0.0 if hits <= 0 else float(betaincinv(hits, count - hits + 1, 0.025))
    high = 1.0 if hits >= count else float(betaincinv(hits + 1, count - hits, 0.975))
    return Share(hits / count, low, high)


def rate(flags: Bools, groups: Indices) -> Share:
    """Share of pictures with a flag, with the interval of Korn and Graubard.

    Clopper's and Pearson's interval of an effective number of pictures, which follows from the
    variance between references (Survey Methodology 24(2), 1998, pages 193 to 201). Where no
    picture or every picture has the flag, that variance is unknown and the number is that of the
    references.

    Parameters
    ----------
    flags : bool array, shape (n,)
    groups : int array, shape (n,)
        Reference of each picture.
    """
    from scipy.special import stdtrit

    _, number = np.unique(groups, return_inverse=True)
    sizes, hits = np.bincount(number), np.bincount(number, flags)
    count, references = flags.size, sizes.size
    p = float(flags.mean())
    if p in (0.0, 1.0) or references == 1:
        found = share(p * references, references)
        return Share(p, found.low, found.high)
    variance = references / (references - 1) * float(((hits - p * sizes) ** 2).sum()) / count**2
    widening = float(stdtrit(count - 1, 0.975) / stdtrit(references - 1, 0.975))
    effective = p * (1 - p) / variance * widening**2 if variance else float(count)
    effective = min(effective, float(count))
    return share(p * effective, effective)


def area(values: Float64, accepted: Bools, groups: Indices) -> Share:
    """Area under the ROC curve: the chance that an accepted picture's value is the higher one.

    Ties count half. The interval is that of the jackknife over references on the logit, which is
    that of clustered ROC curves (Obuchowski, Biometrics 53(2), 1997, doi:10.2307/2533958). Where
    the classes do not overlap it is that of a share of the references of the smaller class.

    Parameters
    ----------
    values : float array, shape (n,)
    accepted : bool array, shape (n,)
        At least one of each class.
    groups : int array, shape (n,)
        Reference of each picture.
    """

    def of(kept: Bools) -> float:
        return _ordered(values[kept], accepted[kept])

    a = of(np.ones(values.size, bool))
    smaller = min(np.unique(groups[accepted]).size, np.unique(groups[~accepted]).size)
    if a in (0.0, 1.0):
        found = share(a * smaller, smaller)
        return Share(a, found.low, found.high)
    reach = jackknife_reach(of, groups) / (a * (1 - a))
    if reach == 0:
        found = share(a * smaller, smaller)
        return Share(a, found.low, found.high)
    z = math.log(a / (1 - a))
    return Share(a, 1 / (1 + math.exp(reach - z)), 1 / (1 + math.exp(-reach - z)))


def _ordered(values: Float64, accepted: Bools) -> float:
    """Share of pairs with the accepted picture's value higher; NaN without pairs."""
    good = int(accepted.sum())
    pairs = good * (accepted.size - good)
    if pairs == 0:
        return math.nan
    return float(ranks(values)[accepted].sum() - good * (good + 1) / 2) / pairs


def jackknife_reach(statistic: Callable[[Bools], float], groups: Indices) -> float:
    """Half the width of a 95 % interval of a statistic, one reference left out at a time.

    Its degrees of freedom are those of the references (Efron and Stein, Annals of Statistics
    9(3), 1981, doi:10.1214/aos/1176345462).

    Parameters
    ----------
    statistic : callback
        Value for the pictures that are kept; NaN where they do not define it.
    groups : int array, shape (n,)

    Returns
    -------
    float
        Infinite where fewer than two references can be left out.
    """
    from scipy.special import stdtrit

    values = np.array([statistic(groups != group) for group in np.unique(groups)])
    known = values[np.isfinite(values)]
    if known.size < 2:
        return math.inf
    return float(stdtrit(known.size - 1, 0.975) * jackknife_error(known))


def most_accepted(flags: Bools, groups: Indices, confidence: float) -> float:
    """Upper confidence bound of a reference's expected share of flagged pictures.

    With one picture of each reference it is the bound of Clopper and Pearson; with more it is
    that of betting on the mean of the references' shares, valid for any distribution of them
    (Waudby-Smith and Ramdas, J. R. Stat. Soc. B 86(1), 2024, doi:10.1093/jrsssb/qkad009).

    Parameters
    ----------
    flags : bool array, shape (n,)
    groups : int array, shape (n,)
        Reference of each picture; references are independent.
    confidence : float
        0 to 1.
    """
    _, number = np.unique(groups, return_inverse=True)
    sizes, hits = np.bincount(number), np.bincount(number, flags)
    if sizes.max() > 1:
        return _bet(hits / sizes, confidence)
    clear = sizes.size - int(hits.sum())
    return round(1 - lower_bound(clear, sizes.size, confidence), 12)


def _bet(shares: Float64, confidence: float) -> float:
    """Upper end of the means against which a gambler does not win 1 / (1 - confidence).

    Each stake follows from the mean and the variance of the shares before it.
    """
    win = -math.log(1 - confidence)
    before = np.arange(1, shares.size + 1)  # one made-up share of 1/2 stands before the first
    means = (0.5 + np.cumsum(shares)) / (before + 1)
    spread = (0.25 + np.cumsum((shares - means) ** 2)) / (before + 1)
    earlier = np.concatenate([[0.25], spread[:-1]])
    stakes = np.sqrt(2 * win / (shares.size * earlier))

    def won(mean: float) -> float:
        """Logarithm of the largest capital that bets on a smaller mean would have reached."""
        bounded = np.minimum(stakes, 0.75 / (1 - mean))
        return float(np.cumsum(np.log1p(bounded * (mean - shares))).max()) - win

    top = 1 - 1e-9
    return 1.0 if won(top) <= 0 else zero(won, float(shares.mean()), top, 1e-9)


def threshold(
    values: Float64, accepted: Bools, groups: Indices, most: float, confidence: float
) -> float:
    """The lowest accepted value that promises a share of false accepts with a confidence.

    Cuts between the values are tested from the strictest one without a false accept downwards,
    until the bound of `most_accepted` exceeds the share: fixed-sequence testing, which keeps the
    confidence for the cut that is chosen (Bauer, Statistics in Medicine 10(6), 1991,
    doi:10.1002/sim.4780100609). Where even that cut promises too little, it is returned.

    Parameters
    ----------
    values : float array, shape (n,)
    accepted : bool array, shape (n,)
    groups : int array, shape (n,)
    most : float
        Largest share of false accepts.
    confidence : float
    """
    seen = np.unique(values)
    middles = (seen[:-1] + seen[1:]) / 2
    below, above = np.nextafter(seen[0], -np.inf), np.nextafter(seen[-1], np.inf)
    cuts = np.concatenate([[below], middles, [above]])
    bad, of = values[~accepted], groups[~accepted]
    chosen = int(np.searchsorted(cuts, bad.max(), side="right"))
    for k in range(chosen, -1, -1):
        passed = bad >= cuts[k]
        if most_accepted(passed, of, confidence) > most:
            break
        chosen = k
    return float(cuts[chosen])


def references_needed(most: float, confidence: float, single: bool) -> int:
    """Fewest references that can promise a share of false accepts, when none occurs.

    Parameters
    ----------
    most : float
        Share of false accepts, above 0.
    confidence : float
    single : bool
        Whether each reference has one rejected picture.
    """
    if single:
        return pictures_needed(1 - most, confidence)
    low, high = 0, 1
    while _bet(np.zeros(high), confidence) > most:
        low, high = high, 2 * high
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (middle, high) if _bet(np.zeros(middle), confidence) > most else (low, middle)
    return high
