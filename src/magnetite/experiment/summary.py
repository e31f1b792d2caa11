"""The tables of a run: means, ranking, rates, agreement of metrics, hard references, cost."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import replace
from functools import lru_cache
from itertools import combinations
from typing import Any

import numpy as np
import pandas as pd

from magnetite.core.analysis.statistics import skewness, spearman
from magnetite.core.chain.notation import parse_sweep
from magnetite.core.chain.step import Chain
from magnetite.core.errors import ChainError, InputError, check_choice
from magnetite.core.methods.caching import follows_declarations
from magnetite.core.quantities import counted
from magnetite.experiment.common import complete, interval_over, scores_of, wide
from magnetite.experiment.depths import unlike_depths
from magnetite.experiment.guarantee import GUARANTEE, Need, guarantee
from magnetite.experiment.interactions import interactions
from magnetite.experiment.plan import NOTHING
from magnetite.experiment.ranking import ranking
from magnetite.experiment.rates import rates
from magnetite.experiment.results import (
    GROUPS,
    RunRows,
    RunTable,
    better_of,
    chosen_metric,
    metrics_of,
)

#: Tables by name: made of the rows, by groups, with the metric that treatments are compared by.
_MAKERS: dict[str, Callable[[RunRows, list[str], str | None], RunTable | None]] = {
    "means": lambda rows, by, _: means(rows, by),
    "ranking": lambda rows, by, metric: None if metric is None else ranking(rows, metric, by),
    "interactions": lambda rows, _, metric: None if metric is None else interactions(rows, metric),
    "rates": lambda rows, by, metric: None if metric is None else rates(rows, metric, by),
    "agreement": lambda rows, *_: agreement(rows, metrics_of(rows)),
    "references": lambda rows, _, metric: references(rows, metric),
    "cost": lambda rows, *_: cost(rows),
    "noticed": lambda rows, *_: noticed(rows),
}
#: A metric notices a level of a degradation that moves it by this many sd over seeds or more;
#: where nothing is random, one whose rank correlation with the level is at least that.
_NOTICED, _FOLLOWS = 2.0, 0.8
#: Columns that identify one degraded picture among those of a level.
_DRAWN = ["reference", "repeat"]


def chosen_tables(
    rows: RunRows, by: list[str], metric: str | None = None, only: str | None = None,
    need: Need | None = None,
) -> list[RunTable]:  # fmt: skip
    """The tables of `tables`, or the one of a name; the guarantee of a need, if there is one.

    Raises
    ------
    InputError
        If a group or the table is unknown, or no rows suit the table.
    """
    for name in by:
        check_choice("group", name, GROUPS)
    if only is not None:
        check_choice("table", only, (*_MAKERS, GUARANTEE))
    if need is not None:
        made = guarantee(rows, need)
        more = (*rows.omissions(failed=False), *unlike_strengths(rows), *unlike_rates(rows))
        return [replace(made, notes=(*made.notes, *more))]
    found = list(tables(rows, by, metric, only))
    if not found:
        raise InputError(f"the run has no rows that the table {only} could be made of")
    return found


def tables(
    rows: RunRows, by: list[str], metric: str | None = None, only: str | None = None
) -> Iterator[RunTable]:
    """Every table that the rows have something to say for, or the one of a name.

    Parameters
    ----------
    rows : RunRows
    by : list of str
        Groups of means and rankings, of `GROUPS`.
    metric : str, optional
        The metric that treatments are ranked by; the first one if left out.
    only : str, optional
        Name of a table; all of them if left out.
    """
    chosen, more = chosen_metric(rows, metric), remarks(rows)
    for name, make in _MAKERS.items():
        table = make(rows, by, chosen) if only in (None, name) else None
        if table is not None and not table.frame.empty:
            yield replace(table, notes=(*table.notes, *more))


def remarks(rows: RunRows) -> list[str]:
    """Omissions; libraries, versions and efforts of the yardsticks among the treatments; unlike
    strengths.
    """
    from magnetite.core.codecs.yardsticks import stated

    chains = [*_chains(rows, "degradation"), *_chains(rows, "treatment")]
    steps = [step for chain in chains for step in chain.steps if step.kind == "codec"]
    by = rows.libraries
    return [
        *rows.omissions(),
        *dict.fromkeys(stated(step, by[step.name]) for step in steps if step.name in by),
        *unlike_strengths(rows),
    ]


def unlike_strengths(rows: RunRows) -> list[str]:
    """A sentence where digital numbers mean unlike strengths in the references, or none."""
    bits = map(int, rows.frame["bits"].dropna().unique())
    return unlike_depths(bits, [*_chains(rows, "degradation"), *_chains(rows, "treatment")])


def unlike_rates(rows: RunRows) -> list[str]:
    """A sentence where mean rates are over references of unlike numbers of channels, or none."""
    channels = sorted(map(int, rows.frame[rows.frame["bpp"].notna()]["channels"].unique()))
    if len(channels) < 2:
        return []
    return [
        f"mean rates are over references of {' and '.join(map(str, channels))} channels: bits per "
        "pixel, whatever a pixel holds"
    ]


def _chains(rows: RunRows, column: str) -> Iterator[Chain]:
    """The chains of a column, without those of methods that this process does not have."""
    yield from filter(None, map(_chain, rows.frame[column].unique()))


@follows_declarations
@lru_cache(maxsize=4096)
def _chain(text: str) -> Chain | None:
    with suppress(ChainError):
        return parse_sweep(text, "degradation", "restoration", "codec", known=True)[0]
    return None


def means(rows: RunRows, by: list[str]) -> RunTable:
    """Mean and 95 % interval of every figure, for each group."""
    made = []
    skewed = 0
    for key, part in rows.split([GROUPS[name] for name in by]):
        group = part.frame
        for figure in rows.figures:
            values = by_reference(group, figure)
            if values:
                repeats = len(group.groupby(["degradation", "treatment"])) == 1
                found = interval_over(values, repeats=repeats)
                skewed += is_skewed(values) and (repeats or len(values) > 1)
                own = sum(map(len, values))
                made.append((*key, figure, *found[:3], len(values), own))
    titles = [*by, "figure", "mean", "95 % from", "to", "references", "rows"]
    frame = pd.DataFrame(made, columns=titles)
    over = "interval over references, each the mean of its rows"
    if (frame["references"] == 1).all():
        over = "interval over the repeats of one reference: it says nothing about others"
    else:
        if (frame["references"] == 1).any():
            over += ", of one reference over its repeats, which says nothing about others"
        if frame["references"].max() < _TESTED:
            over += f"; of fewer than {_TESTED} references skewed values cannot be recognised"
    notes = []
    if skewed:
        notes.append(f"{skewed} of {len(frame)} means are of skewed values: their intervals are "
                     "Hall's, which allow for it")  # fmt: skip
    if rows.failed:
        notes.append(f"{counted(rows.failed, 'row')} failed: means of such groups are over fewer "
                     "rows, and are compared in the ranking on the rows that all have")  # fmt: skip
    notes += without_value(rows)
    return RunTable("means", "Means", frame, over, tuple(notes))


def without_value(rows: RunRows) -> Iterator[str]:
    """A sentence without its full stop on each figure that some rows have and others have not."""
    total = len(rows.frame)
    for figure in rows.figures:
        missing = int(rows.frame[figure].astype(float).isna().sum())
        if 0 < missing < total:
            yield (
                f"{figure} has no value in {missing} of {total} rows: its means are over the other "
                "rows, which may be other pictures in each group"
            )


#: References from which skewness is tested.
_TESTED = 8


def by_reference(group: Any, figure: str) -> list[list[float]]:
    """The values of a figure that are known, by reference."""
    values: dict[str, list[float]] = {}
    pairs = zip(group["reference"].tolist(), group[figure].astype(float).tolist(), strict=True)
    for reference, value in pairs:
        if not math.isnan(value):
            values.setdefault(reference, []).append(value)
    return list(values.values())


def is_skewed(values: list[list[float]]) -> bool:
    """Whether the means of the references are significantly skewed."""
    units = np.array([np.mean(own) for own in values]) if len(values) > 1 else np.array(values[0])
    return bool(np.isfinite(units).all()) and skewness(units) != 0


def agreement(rows: RunRows, metrics: list[str]) -> RunTable | None:
    """Spearman's correlation of every two metrics within references, and its mean."""
    if len(metrics) < 2:
        return None
    made = []
    for one, two in combinations(metrics, 2):
        sign = 1 if better_of(one) == better_of(two) else -1
        found = []
        for _, group in rows.frame.groupby("reference"):
            both = group[[one, two]].dropna()
            if len(both) > 2:
                value = sign * spearman(both[one].tolist(), both[two].tolist())
                found += [] if math.isnan(value) else [value]
        if found:
            made.append((one, two, float(np.mean(found)), min(found), len(found)))
    return RunTable(
        "agreement", "Agreement of metrics",
        pd.DataFrame(made, columns=["metric", "with", "Spearman", "least", "references"]),
        "rank correlation over the rows of a reference, 1 where both prefer the same",
    )  # fmt: skip


def references(rows: RunRows, metric: str | None) -> RunTable | None:
    """References from hardest to easiest, with their size and activity.

    Each mean is over the rows (degradation, repeat, treatment) that all references have.
    """
    if metric is None:
        return None
    index = ["degradation", "repeat", "label"]
    failed = set(zip(*(rows.lost[c] for c in (*index, "reference")), strict=True))
    common = complete(wide(rows.frame, metric, "reference", index), failed)
    means = common.values.mean() if len(common.values) else {}
    made = [
        (name, f"{int(g['width'].iloc[0])}x{int(g['height'].iloc[0])}",
         g["reference activity"].iloc[0], means.get(name, math.nan),
         len(common.values) if name in means else 0)
        for name, g in rows.frame.groupby("reference", sort=False)
    ]  # fmt: skip
    titles = ["reference", "size", "activity dn", f"mean {metric}", "rows"]
    frame = pd.DataFrame(made, columns=titles)
    frame = frame.sort_values(f"mean {metric}", ascending=better_of(metric) == "higher")
    return RunTable(
        "references", "References, the hardest first", frame,
        "means over the rows that all references have", tuple(common.notes("rows")),
    )  # fmt: skip


def cost(rows: RunRows) -> RunTable:
    """Seconds per megapixel of each treatment, the median over pictures that all of them have."""
    title = "s per megapixel"
    frame = rows.frame.assign(
        **{title: rows.frame["seconds treat"] / (rows.frame["width"] * rows.frame["height"] / 1e6)}
    )
    lost = rows.lost[rows.lost["treatment"] != NOTHING]
    treated = replace(rows, frame=frame[frame["treatment"] != NOTHING], lost=lost)
    common = scores_of(treated, title)
    names = treated.in_order("label")["label"].unique()
    made = common.values.median().reindex(names).rename_axis("treatment").reset_index(name=title)
    return RunTable(
        "cost", "Time", made,
        "median over the degraded pictures that all treatments have, on the threads of one worker",
        tuple(common.notes()),
    )  # fmt: skip


def noticed(rows: RunRows) -> RunTable | None:
    """How much each figure moves from level to level of a degradation.

    The spread is that over seeds; of a degradation without random numbers that of the change
    over references, and the verdict follows from the rank correlation with the level.
    """
    ordered = rows.in_order("label", "degradation")
    plain = NOTHING if (ordered["treatment"] == NOTHING).any() else ordered["label"].iloc[0]
    column = "treatment" if plain == NOTHING else "label"
    frame = ordered[ordered[column] == plain]
    lost = rows.lost[rows.lost[column] == plain]
    made, notes = [], []
    for name, group in frame.groupby("degradation name", sort=False):
        levels = group["degradation"].unique().tolist()
        own = lost[lost["degradation name"] == name]
        failed = set(zip(*(own[c] for c in (*_DRAWN, "degradation")), strict=True))
        for figure in rows.figures if len(levels) > 1 else ():
            common = complete(wide(group, figure, "degradation", _DRAWN), failed)
            notes += [f"{name}, {figure}: {note}" for note in common.notes("pictures")]
            if not common.aside and len(common.values):
                made.append((name, figure, *_noticed(common.values[levels])))
    titles = ["degradation", "figure", "levels", "change per level", "spread", "over",
              "in sd", "Spearman", "verdict", "references"]  # fmt: skip
    return RunTable(
        "noticed", "Sensitivity of the figures", pd.DataFrame(made, columns=titles),
        f"on the pictures after {plain!r} that have all levels; in sd: of the spread; blind: a "
        f"level moves the figure by less than {_NOTICED:g} sd over seeds, or without seeds its "
        f"rank correlation (Spearman) with the level is below {_FOLLOWS:g} in size",
        tuple(notes),
    )  # fmt: skip


def _noticed(values: Any) -> tuple[Any, ...]:
    """Levels, change, spread, its kind, their ratio, rank correlation, verdict and references.

    `values` has a row for each reference and repeat, and a column for each level.
    """
    cells = values.groupby(level="reference", sort=False)
    table = cells.mean().to_numpy()
    count = table.shape[1]
    changes = (table[:, -1] - table[:, 0]) / (count - 1)
    ranks = [spearman(range(count), row) for row in table.tolist()]
    correlation = float(np.mean([0.0 if math.isnan(rank) else rank for rank in ranks]))
    variances = cells.var(ddof=1).to_numpy()
    seeded = bool((cells.size() > 1).any())
    over_references = changes.std(ddof=1) if len(changes) > 1 else math.nan
    spread = math.sqrt(np.nanmean(variances)) if seeded else float(over_references)
    step = float(changes.mean())
    share = abs(step) / spread if spread > 0 else math.inf if step else 0.0
    share = math.nan if math.isnan(spread) else share
    notices = share >= _NOTICED if seeded else abs(correlation) >= _FOLLOWS
    words = "notices it" if notices else "blind to it"
    over = "seeds" if seeded else "references"
    return count, step, spread, over, share, correlation, words, len(table)
