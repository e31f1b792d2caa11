"""What a run says: means, ranking, rates, agreement of metrics, hard references, cost."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from itertools import combinations
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from magnetite.core.analysis.statistics import holm, nested_interval, paired, spearman
from magnetite.core.chain.notation import parse_step
from magnetite.core.curves.comparison import Better, Comparison, compare
from magnetite.core.errors import ChainError, InputError
from magnetite.core.methods import declarations
from magnetite.experiment.ledger import Ledger
from magnetite.experiment.plan import NOTHING

#: Columns of a run's table that tables may be grouped by.
GROUPS = {
    "reference": "reference", "degradation": "degradation", "treatment": "treatment",
    "degradations": "degradation name", "treatments": "treatment name",
}  # fmt: skip
#: Differences count as shown below this chance, corrected.
LEVEL = 0.05
#: Points that a rate-distortion curve needs.
_LEAST_POINTS = 4
#: A metric notices a level of a degradation that moves it by this many sd over seeds or more.
_NOTICED = 2.0
#: Columns that are no figures.
_FIXED = 16


@dataclass(frozen=True)
class Table:
    """A table with its name and what its reader must know."""

    name: str
    title: str
    frame: Any
    caption: str = ""


@dataclass(frozen=True)
class Rows:
    """The rows of a run that are done, and the names of their figures."""

    frame: Any
    figures: tuple[str, ...]
    failed: int
    missing: int


def read_rows(folder: Path) -> Rows:
    """The table of a run, as far as it has come.

    Raises
    ------
    FileError
        If the folder holds no run.
    InputError
        If no row is done.
    """
    ledger = Ledger(folder, writable=False)
    try:
        columns = ledger.columns()
        frame = pd.DataFrame(ledger.rows(), columns=columns)
        total, done, failed = ledger.counts()
    finally:
        ledger.close()
    frame = frame[frame["status"] == "done"]
    if frame.empty:
        raise InputError(f"{folder}: no row is done yet: run the plan first")
    figures = tuple(c for c in columns[_FIXED:] if not c.startswith("seconds "))
    return Rows(frame, figures, failed, total - done - failed)


def tables(rows: Rows, by: list[str], metric: str | None = None) -> Iterator[Table]:
    """Every table that the rows have something to say for.

    Parameters
    ----------
    rows : Rows
    by : list of str
        What means are grouped by, of `GROUPS`.
    metric : str, optional
        What treatments are ranked by; the first metric if left out.
    """
    chosen, metrics = chosen_metric(rows, metric), metrics_of(rows)
    yield means(rows, by)
    if chosen is not None:
        yield from _present(ranking(rows, chosen), rates(rows, chosen))
    yield from _present(
        agreement(rows, metrics), references(rows, chosen), cost(rows), noticed(rows)
    )


def _present(*made: Table | None) -> Iterator[Table]:
    yield from (table for table in made if table is not None and not table.frame.empty)


def metrics_of(rows: Rows) -> list[str]:
    """The figures of a run that are metrics, in its order."""
    return [name for name in rows.figures if better_of(name) is not None]


def chosen_metric(rows: Rows, metric: str | None) -> str | None:
    """The figure that treatments are compared by: the one named, or the first metric, if any.

    Raises
    ------
    InputError
        If the run does not have the figure.
    """
    if metric is not None and metric not in rows.figures:
        raise InputError(
            f"{metric!r} is not a figure of this run; it has: {', '.join(rows.figures)}"
        )
    return metric or next(iter(metrics_of(rows)), None)


def better_of(name: str) -> str | None:
    """Which way of a figure is better; None of a gauge, where that depends."""
    try:
        return parse_step(name, "metric").declared(declarations.Metric).better
    except ChainError:
        return None


def means(rows: Rows, by: list[str]) -> Table:
    """Mean and 95 % interval of every figure, for each group."""
    columns = [GROUPS[name] for name in by]
    made = []
    for key, group in rows.frame.groupby(columns, sort=False):
        references = group["reference"].tolist()
        for figure in rows.figures:
            by_reference: dict[str, list[float]] = {}
            for reference, value in zip(
                references, group[figure].astype(float).tolist(), strict=True
            ):
                if not math.isnan(value):
                    by_reference.setdefault(reference, []).append(value)
            values = list(by_reference.values())
            if values:
                found = nested_interval(values)
                made.append((*key, figure, *found[:3], len(values), len(group)))
    titles = [*by, "figure", "mean", "95 % from", "to", "references", "rows"]
    over = "references, each the mean of its rows"
    if rows.frame["reference"].nunique() == 1:
        over = "the rows of the one reference: it says nothing about others"
    return Table("means", "Means", pd.DataFrame(made, columns=titles), f"interval over {over}")


def ranking(rows: Rows, metric: str) -> Table:
    """Treatments from best to worst, each against the best, paired over references."""
    frame = rows.frame[rows.frame[metric].notna()]
    wide = frame.pivot_table(index="reference", columns="treatment", values=metric, sort=False)
    wide = wide.dropna(axis=1)
    higher = better_of(metric) == "higher"
    order = wide.mean().sort_values(ascending=not higher, kind="stable").index.tolist()
    pairs = list(combinations(order, 2))
    found = {pair: paired(wide[pair[1]].tolist(), wide[pair[0]].tolist()) for pair in pairs}
    chances = dict(zip(pairs, holm([found[pair].p for pair in pairs]), strict=True))
    made: list[tuple[Any, ...]] = []
    for rank, name in enumerate(order, 1):
        if rank == 1:
            made.append((1, name, wide[name].mean(), None, None, None, None, ""))
            continue
        pair = (order[0], name)
        difference, chance = found[pair], chances[pair]
        verdict = "no difference shown" if not chance < LEVEL else "worse"
        made.append((rank, name, wide[name].mean(), *difference[:3], chance, verdict))
    titles = ["rank", "treatment", f"mean {metric}", "minus the best", "95 % from", "to",
              "p (Holm)", "verdict"]  # fmt: skip
    count = len(wide)
    return Table(
        "ranking", f"Ranking by {metric}", pd.DataFrame(made, columns=titles),
        f"paired over {count} references, each the mean over degradations and repeats; p of "
        f"Student's test, corrected for all {len(pairs)} pairs of treatments (Holm)",
    )  # fmt: skip


def rates(rows: Rows, metric: str) -> Table | None:
    """Each treatment with a sweep of rates against the first of them, on the same pictures.

    Rate at equal score (BD-rate), where the curves share scores, and score at equal rate, where
    they share rates; each with its interval over references.
    """
    curves = _curves(rows, metric)
    names = list(curves)
    if len(names) < 2:
        return None
    better: Better = "higher" if better_of(metric) == "higher" else "lower"
    made = []
    for name in names[1:]:
        common = [place for place in curves[names[0]] if place in curves[name]]
        saved: dict[str, list[float]] = {}
        gained: dict[str, list[float]] = {}
        for place in common:
            one = _compared(tuple(curves[names[0]][place]), tuple(curves[name][place]), better)
            if one.bd_rate is not None:
                saved.setdefault(place[0], []).append(100 * one.bd_rate)
            if one.bd_quality is not None:
                gained.setdefault(place[0], []).append(one.bd_quality)
        if saved or gained:
            compared = sum(map(len, saved.values()))
            made.append(
                (names[0], name, *_interval_of(saved), compared, *_interval_of(gained), len(common))
            )
    titles = ["against", "treatment", "BD-rate %", "95 % from", "to", "compared",
              "gain", "gain 95 % from", "gain to", "curves"]  # fmt: skip
    return Table(
        "rates", f"Rates at equal {metric}",
        pd.DataFrame(made, columns=titles),
        "BD-rate: below 0 is less rate; compared: curves that share scores; gain: "
        f"{metric} at equal rate; intervals over references",
    )  # fmt: skip


def _curves(rows: Rows, metric: str) -> dict[str, dict[tuple[str, str], list[tuple[float, float]]]]:
    """Points of (rate, score) by treatment, reference and degradation, means over repeats."""
    frame = rows.frame[rows.frame["bpp"].notna() & rows.frame[metric].notna()]
    keys = ["treatment name", "reference", "degradation", "treatment"]
    points = frame.groupby(keys, sort=False)[["bpp", metric]].mean()
    curves: dict[str, dict[tuple[str, str], list[tuple[float, float]]]] = {}
    for (name, reference, degradation, _), bpp, score in zip(
        points.index, points["bpp"].tolist(), points[metric].tolist(), strict=True
    ):
        curves.setdefault(name, {}).setdefault((reference, degradation), []).append((bpp, score))
    found = {
        name: {place: sorted(own) for place, own in by_place.items() if len(own) >= _LEAST_POINTS}
        for name, by_place in curves.items()
    }
    return {name: by_place for name, by_place in found.items() if by_place}


@lru_cache(maxsize=16384)
def _compared(
    anchor: tuple[tuple[float, float], ...], test: tuple[tuple[float, float], ...], better: Better
) -> Comparison:
    """Two curves compared once, though several tables ask for it."""
    return compare(anchor, test, better)


def _interval_of(groups: dict[str, list[float]]) -> tuple[float, float, float]:
    """Mean and interval over references; NaN where there is nothing."""
    if not groups:
        return math.nan, math.nan, math.nan
    return nested_interval(list(groups.values()))[:3]


def agreement(rows: Rows, metrics: list[str]) -> Table | None:
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
    return Table(
        "agreement", "Agreement of metrics",
        pd.DataFrame(made, columns=["metric", "with", "Spearman", "least", "references"]),
        "rank correlation over the rows of a reference, 1 where both prefer the same",
    )  # fmt: skip


def references(rows: Rows, metric: str | None) -> Table | None:
    """References from hardest to easiest, with their size and activity."""
    if metric is None:
        return None
    groups = rows.frame.groupby("reference", sort=False)
    made = [
        (name, f"{int(g['width'].iloc[0])}x{int(g['height'].iloc[0])}", g["activity"].iloc[0],
         g[metric].mean())
        for name, g in groups
    ]  # fmt: skip
    frame = pd.DataFrame(made, columns=["reference", "size", "activity dn", f"mean {metric}"])
    frame = frame.sort_values(f"mean {metric}", ascending=better_of(metric) == "higher")
    return Table("references", "References, the hardest first", frame)


def cost(rows: Rows) -> Table:
    """Seconds per megapixel of each treatment, the median over its rows."""
    frame = rows.frame.assign(
        rate=rows.frame["seconds treat"] / (rows.frame["width"] * rows.frame["height"] / 1e6)
    )
    made = frame.groupby("treatment", sort=False)["rate"].median().reset_index()
    made.columns = ["treatment", "s per megapixel"]
    made = made[made["treatment"] != NOTHING]
    return Table("cost", "Time", made, "median over the rows, on the threads of one worker")


def noticed(rows: Rows) -> Table | None:
    """How much each figure moves from level to level of a degradation, in its spread over seeds."""
    first = rows.frame["treatment"].iloc[0]
    plain = NOTHING if (rows.frame["treatment"] == NOTHING).any() else first
    frame = rows.frame[rows.frame["treatment"] == plain]
    made = []
    for name, group in frame.groupby("degradation name", sort=False):
        levels = group["degradation"].unique().tolist()
        if len(levels) < 2:
            continue
        for figure in rows.figures:
            cells = group.groupby(["reference", "degradation"], sort=False)[figure]
            variances = cells.var(ddof=1).dropna()
            if variances.empty:
                continue
            spread = math.sqrt(float(variances.mean()))
            wide = cells.mean().unstack("degradation")[levels]
            step = float((wide[levels[-1]] - wide[levels[0]]).mean()) / (len(levels) - 1)
            share = abs(step) / spread if spread > 0 else math.inf if step else 0.0
            verdict = "notices it" if share >= _NOTICED else "blind to it"
            made.append((name, figure, len(levels), step, spread, share, verdict))
    titles = ["degradation", "figure", "levels", "change per level", "sd over seeds",
              "changes in sd", "verdict"]  # fmt: skip
    return Table(
        "noticed", "Which figure notices what", pd.DataFrame(made, columns=titles),
        f"on the pictures after {plain!r}; blind: a level moves the figure by less than "
        f"{_NOTICED:g} sd over seeds",
    )  # fmt: skip


#: Tables by name.
NAMES = ("means", "ranking", "rates", "agreement", "references", "cost", "noticed")
