"""Designs of blind tests: pairs that are compared, and how many raters a wanted interval takes."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence

import numpy as np

from magnetite.core.calibrate.fitting import NORMAL_95
from magnetite.core.errors import InputError

#: sd of one grade of the impairment scale over raters, as is typical (Recommendation ITU-R
#: BT.500-14), and log odds of 1 JND: 3 of 4 prefer the better one.
TYPICAL_SD, JND = 0.8, math.log(3)


def pairs_of(names: Sequence[str], most: int | None = None) -> list[tuple[str, str]]:
    """Pairs of pictures that are compared: all, or as many as are wanted, evenly spread.

    An incomplete design is cyclic: each picture is compared with those 1, 2, ... steps further
    on a circle, so that each is there equally often and all are connected (David, The Method of
    Paired Comparisons, 2nd ed., 1988, chapter 5).

    Parameters
    ----------
    names : sequence of str
        Pictures of one reference.
    most : int, optional
        Pairs at most; all if left out.

    Raises
    ------
    InputError
        If there are fewer than two pictures, or `most` does not connect them.
    """
    count = len(names)
    if count < 2:
        raise InputError("a pair takes two pictures: state more settings, or include the reference")
    every = count * (count - 1) // 2
    if most is None or most >= every:
        return list(itertools.combinations(names, 2))
    if most < count:
        raise InputError(
            f"{most} pairs do not connect {count} pictures of a reference: allow {count} or more"
        )
    # Steps that are coprime with the count make a single circle; 1 is always among them.
    made: list[tuple[str, str]] = []
    for step in range(1, count // 2 + 1):
        circle = {frozenset((k, (k + step) % count)) for k in range(count)}
        if len(made) + len(circle) > most:
            break
        made += [(names[min(pair)], names[max(pair)]) for pair in sorted(map(sorted, circle))]
    return made


def raters_for_rating(half_width: float) -> int:
    """Raters for a mean grade within a half 95 % interval, at the typical spread."""
    return math.ceil((NORMAL_95 * TYPICAL_SD / half_width) ** 2)


def raters_for_pairs(pairs: Sequence[tuple[str, str]], repeats: int, half_width: float) -> int:
    """Raters for scale values within a half 95 % interval, JND, where differences are small.

    From the information of the Bradley-Terry model at equal values.
    """
    names = sorted({name for pair in pairs for name in pair})
    index = {name: k for k, name in enumerate(names)}
    information = np.zeros((len(names), len(names)))
    for a, b in pairs:
        i, j = index[a], index[b]
        information[[i, j], [i, j]] += repeats / 4
        information[[i, j], [j, i]] -= repeats / 4
    variance = float(np.diag(np.linalg.pinv(information)).max()) / JND**2
    return math.ceil(variance * (NORMAL_95 / half_width) ** 2)
