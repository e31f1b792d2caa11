"""Summaries of repeats of one measurement."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from magnetite.core.analysis.statistics import interval
from magnetite.core.errors import InputError

#: Stands for the mean over all references.
ALL_REFERENCES = "all references"


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
    """Summaries by label that every row has.

    The interval is `mean ± t sd / √n`, t of Student's law with n - 1 degrees of freedom.

    Raises
    ------
    InputError
        If there are fewer than two rows.
    """
    if len(rows) < 2:
        raise InputError("repeats are at least two; one alone says nothing about their spread")
    labels = [label for label in rows[0] if all(label in row for row in rows)]
    return {label: _summary([row[label] for row in rows]) for label in labels}


def summarise_by_reference(
    rows: Sequence[tuple[str, Mapping[str, float]]],
) -> dict[str, dict[str, Summary]]:
    """Repeats of each reference, by its name; of several also their means, over the references.

    The interval of `ALL_REFERENCES` is that of the mean over references of the kind given.

    Raises
    ------
    InputError
        If a reference has fewer than two rows.
    """
    summaries = {
        reference: summarise([figures for name, figures in rows if name == reference])
        for reference in dict.fromkeys(name for name, _ in rows)
    }
    if len(summaries) > 1:
        means = [
            {label: one.mean for label, one in summary.items() if one.mean is not None}
            for summary in summaries.values()
        ]
        common = [label for label in means[0] if all(label in row for row in means)]
        summaries[ALL_REFERENCES] = summarise([{k: row[k] for k in common} for row in means])
    return summaries


def _summary(values: list[float]) -> Summary:
    number = len(values)
    if not all(map(math.isfinite, values)):
        both = math.inf in values and -math.inf in values
        return Summary(number, None if both else float(np.mean(values)), None, None, None)
    found = interval(values)
    return Summary(number, found.mean, float(np.std(values, ddof=1)), found.low, found.high)
