"""Scores that can be compared: those of the pictures that all treatments have."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from magnetite.core.analysis.statistics import Interval, nested_interval
from magnetite.core.quantities import abbreviated
from magnetite.experiment.results import RunRows

#: Columns that identify a degraded picture.
PICTURE = ["reference", "degradation", "repeat"]
#: A column of which more than this share failed is set aside.
_MOST_FAILED = 0.5


@dataclass(frozen=True)
class Common:
    """Finite values of columns (treatments) on the rows (pictures) that all of them have."""

    values: Any
    #: Columns that are not compared, and why.
    aside: dict[str, str]
    #: Reasons for which rows are left out, with their number.
    left_out: dict[str, int]
    #: Means of the columns that are infinite everywhere.
    infinite: dict[str, float]

    def notes(self, noun: str = "degraded pictures") -> list[str]:
        """Sentences on the rows left out; none where all are kept."""
        made = []
        if self.left_out:
            total = len(self.values) + sum(self.left_out.values())
            reasons = ", ".join(f"{n} ({reason})" for reason, n in self.left_out.items())
            made.append(f"compared on {len(self.values)} of {total} {noun}; left out: {reasons}")
        return made + [f"not compared: “{name}”: {reason}" for name, reason in self.aside.items()]


def interval_over(groups: Sequence[Sequence[float]], *, repeats: bool) -> Interval:
    """Mean over references and its interval; of one reference only where its rows are repeats.

    Rows of several degradations or treatments are no sample of anything.
    """
    alone = len(groups) == 1 and not repeats
    return nested_interval([[float(np.mean(groups[0]))]] if alone else groups)


def scores_of(rows: RunRows, metric: str) -> Common:
    """The scores of all treatments on the degraded pictures that all of them have."""
    failed = set(zip(*(rows.lost[c] for c in (*PICTURE, "label")), strict=True))
    return complete(wide(rows.frame, metric, "label", PICTURE), failed)


def wide(frame: Any, metric: str, column: str, index: list[str]) -> Any:
    """Values of a figure with a row for each key and a column for each value of another column."""
    taken = frame[[*index, column]].assign(value=frame[metric].astype(float))
    # Rows that a plan asks for under two names are one and the same.
    alone = taken.drop_duplicates([*index, column]).set_index([*index, column])
    # Of unstack(sort=False) pandas before 3 puts values into other rows.
    in_order = alone["value"].unstack(column)
    rows = alone.index.droplevel(column).unique()
    return in_order.reindex(index=rows, columns=taken[column].unique())


def complete(values: Any, failed: set[tuple[Any, ...]] = frozenset()) -> Common:  # type: ignore[assignment]
    """The rows in which every column has a finite value; the rows left out, and why.

    Set aside is a column without values, one of which more than half failed, and one that is
    infinite everywhere. While no row is left that all columns have, the column with the fewest
    values is set aside.

    Parameters
    ----------
    values : pandas.DataFrame
        NaN where the value is missing.
    failed : set of tuples
        Keys of rows, each with the column's name at its end, whose computation failed.
    """
    aside: dict[str, str] = {}
    infinite: dict[str, float] = {}
    for name in values.columns:
        own = values[name].dropna()
        lost = sum(key[-1] == name for key in failed)
        if lost > _MOST_FAILED * (lost + len(own)):
            aside[name] = f"{lost} of its {lost + len(own)} rows failed"
        elif own.empty:
            aside[name] = "it has no value"
        elif np.isinf(own).all() and own.nunique() == 1:
            infinite[name] = float(own.iloc[0])
            sign = "∞" if infinite[name] > 0 else "−∞"
            where = "its only row" if len(own) == 1 else f"all its {len(own)} rows"
            aside[name] = f"{sign} on {where}"
    gone = {key[-1] for key in failed} - set(values.columns)
    aside |= dict.fromkeys(sorted(gone), "all its rows failed")
    kept = values.drop(columns=[name for name in values.columns if name in aside])
    while kept.shape[1] > 1 and not np.isfinite(kept).all(axis=1).any():
        fewest = np.isfinite(kept).sum().iloc[::-1].idxmin()
        aside[str(fewest)] = "it shares no row with all the others"
        kept = kept.drop(columns=fewest)
    whole = np.isfinite(kept).all(axis=1)
    reasons = Counter(_reason(key, row, failed) for key, row in kept[~whole].iterrows())
    return Common(kept[whole], aside, dict(reasons), infinite)


def _reason(key: Any, row: Any, failed: set[tuple[Any, ...]]) -> str:
    """Why a row is left out."""
    keys = key if isinstance(key, tuple) else (key,)
    lost = [name for name in row.index if (*keys, name) in failed]
    if lost:
        return f"{_some(lost)} failed"
    endless = [name for name, value in row.items() if math.isinf(value)]
    if endless:
        return f"{_some(endless)} {'is' if len(endless) == 1 else 'are'} infinite"
    absent = [name for name, value in row.items() if math.isnan(value)]
    return f"{_some(absent)} {'has' if len(absent) == 1 else 'have'} no value"


def _some(names: list[str]) -> str:
    return abbreviated([f"“{name}”" for name in names])
