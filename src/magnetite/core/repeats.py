"""What repeats of one measurement say together."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from magnetite.core.errors import InputError


@dataclass(frozen=True)
class Summary:
    """Mean and sample sd of repeats, and the 95 % interval of the mean.

    sd and the interval are None where a figure is infinite, and the mean where figures are
    infinite in both directions.
    """

    number: int
    mean: float | None
    sd: float | None
    low: float | None
    high: float | None


def summarise(rows: Sequence[Mapping[str, float]]) -> dict[str, Summary]:
    """Summaries by label of what every row holds.

    The interval is `mean ± t sd / √n`, t of Student's law with n - 1 degrees of freedom.

    Raises
    ------
    InputError
        If there are fewer than two rows.
    """
    if len(rows) < 2:
        raise InputError("repeats are at least two; one alone says nothing about their spread")
    return {label: _summary([row[label] for row in rows]) for label in rows[0]}


def _summary(values: list[float]) -> Summary:
    from scipy.stats import t

    number = len(values)
    if not all(map(math.isfinite, values)):
        both = math.inf in values and -math.inf in values
        return Summary(number, None if both else float(np.mean(values)), None, None, None)
    mean, sd = float(np.mean(values)), float(np.std(values, ddof=1))
    reach = float(t.ppf(0.975, number - 1)) * sd / math.sqrt(number)
    return Summary(number, mean, sd, mean - reach, mean + reach)
