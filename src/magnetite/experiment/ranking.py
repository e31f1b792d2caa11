"""Treatments from best to worst on the same pictures."""

from __future__ import annotations

import math
from itertools import combinations
from typing import Any, NamedTuple

import pandas as pd

from magnetite.core.analysis.simultaneous import Difference, pairwise, simultaneous
from magnetite.core.arrays import Float64
from magnetite.experiment.common import Common, scores_of
from magnetite.experiment.results import GROUPS, RunRows, RunTable, better_of

#: Differences count as shown below this chance, corrected for all pairs of treatments.
LEVEL = 0.05
#: References from which on a number of them is proposed, and the largest number.
_LEAST, _MOST = 4, 1000
#: Verdicts of the table.
WORSE, OPEN, UNTESTED = "worse", "no difference shown", "no test: one reference"


class Ranked(NamedTuple):
    """A treatment's row: its mean, and its difference from the best with its interval."""

    rank: int | None
    treatment: str
    mean: float | None
    difference: float | None
    low: float | None
    high: float | None
    p: float | None
    verdict: str
    references: int | None
    rows: int | None


def ranking(rows: RunRows, metric: str, by: list[str] | None = None) -> RunTable:
    """Treatments from best to worst, each against the best, paired over references.

    Parameters
    ----------
    rows : RunRows
    metric : str
    by : list of str, optional
        Of `GROUPS`: a ranking for each group, such as each level of a degradation. Names of
        treatments among them do not group.
    """
    groups = [name for name in by or () if name not in ("treatment", "treatments")]
    made: list[tuple[Any, ...]] = []
    notes: list[str] = []
    for key, part in rows.split([GROUPS[name] for name in groups]):
        common = scores_of(part, metric)
        lines = _ranked(common, metric)
        made += [(*key, *line) for line in lines]
        where = f"{', '.join(map(str, key))}: " if key else ""
        notes += [f"{where}{note}" for note in (*best_set(lines), *common.notes())]
    titles = [*groups, "rank", "treatment", f"mean {metric}", "minus the best", "95 % from", "to",
              "p", "verdict", "references", "rows"]  # fmt: skip
    return RunTable(
        "ranking", f"Ranking by {metric}", _frame(made, titles),
        "paired over references, each the mean of the pictures that all treatments have; "
        "intervals and p hold together for all pairs of treatments of a ranking",
        tuple(notes),
    )  # fmt: skip


def _frame(made: list[tuple[Any, ...]], titles: list[str]) -> Any:
    """The rows as a data frame; counts stay whole where some are missing."""
    frame = pd.DataFrame(made, columns=titles)
    for name in ("rank", "references", "rows"):
        counts = [line[titles.index(name)] for line in made]
        frame[name] = pd.Series(counts, dtype=object if None in counts else int)
    return frame


def _ranked(common: Common, metric: str) -> list[Ranked]:
    """Rows of one ranking: infinite means in their order, treatments not compared at the end."""
    higher = better_of(metric) == "higher"
    means = common.values.groupby(level="reference", sort=False).mean()
    order = means.mean().sort_values(ascending=not higher, kind="stable").index.tolist()
    found = against(means[order].to_numpy())
    counts = (len(means), len(common.values))
    first = [n for n, value in common.infinite.items() if (value > 0) == higher]
    last = [n for n in common.infinite if n not in first]
    made: list[Ranked] = []
    for name in first:
        made.append(_apart(len(made) + 1, name, common))
    for position, name in enumerate(order):
        mean = float(means[name].mean())
        if position == 0:
            made.append(Ranked(len(made) + 1, name, mean, None, None, None, None, "", *counts))
            continue
        one = found[0, position]
        made.append(Ranked(len(made) + 1, name, mean, *one, verdict(one), *counts))
    for name in last:
        made.append(_apart(len(made) + 1, name, common))
    ranked = {*order, *common.infinite}
    return made + [_apart(None, name, common) for name in common.aside if name not in ranked]


def best_set(lines: list[Ranked]) -> list[str]:
    """The treatments among which the best one is, in words; none where nothing is tested.

    All differences hold together with 95 %, so the best of the population is not among those
    that are shown to be worse than the best of the sample (Hsu, Annals of Statistics 12(3), 1984,
    doi:10.1214/aos/1176346732, by intervals of all pairs).
    """
    tested = [line for line in lines if line.verdict in (WORSE, OPEN)]
    if not tested or lines[0].verdict:
        return []
    held = [lines[0], *(line for line in tested if line.verdict == OPEN)]
    names = ", ".join(f"“{line.treatment}”" for line in held)
    if len(held) == 1:
        return [f"the best is {names}, with 95 % confidence"]
    if len(held) == len(tested) + 1:
        words = f"any of the {len(held)} may be the best: none is shown to be worse"
    else:
        words = f"the best is among {names}, with 95 % confidence"
    return [words + _references_wanted(held[1])]


def _references_wanted(second: Ranked) -> str:
    """How many references would separate the first two, at their difference and its scatter."""
    gap, low, high, references = second.difference, second.low, second.high, second.references
    if not gap or low is None or high is None or references is None or references < _LEAST:
        return ""
    wanted = references * ((high - low) / 2 / gap) ** 2
    number = f"about {math.ceil(wanted)}" if wanted <= _MOST else f"more than {_MOST:,}"
    return f"; {number} references would separate the first two, as they differ and scatter here"


def _apart(rank: int | None, name: str, common: Common) -> Ranked:
    mean = common.infinite.get(name)
    return Ranked(rank, name, mean, None, None, None, None, "not compared", None, None)


def against(values: Float64) -> dict[tuple[int, int], Difference]:
    """Difference of every later column, values of shape (n, k), from every earlier one.

    Their intervals hold together.
    """
    count = values.shape[1]
    if count < 2:
        return {}
    found = simultaneous(values, pairwise(count))
    return dict(zip(combinations(range(count), 2), found, strict=True))


def verdict(difference: Difference) -> str:
    """Of a treatment against the best one."""
    if math.isnan(difference.p):
        return UNTESTED
    return WORSE if difference.p < LEVEL else OPEN
