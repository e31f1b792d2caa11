"""The answer of a run in sentences: which treatment wins where, by how much, how surely."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

from magnetite.core.methods.declarations import Metric
from magnetite.core.quantities import figure
from magnetite.core.verbs.figures import parse_figures
from magnetite.experiment.summary import LEVEL, Rows, better_of, ranking, rates


@dataclass(frozen=True)
class Answer:
    """What was found after one degradation."""

    #: The degradation's name.
    where: str
    sentence: str
    #: `shown` where a difference is shown on other references; `open` where not; or `single`.
    verdict: str
    #: What the verdict rests on.
    grounds: str


def answers(rows: Rows, metric: str) -> list[Answer]:
    """A sentence for each degradation: of rates where there are rates, of means otherwise."""
    made = []
    for name, group in rows.frame.groupby("degradation name", sort=False):
        part = replace(rows, frame=group)
        made.append(_of_rates(str(name), part, metric) or _of_means(str(name), part, metric))
    return made


def _of_rates(where: str, rows: Rows, metric: str) -> Answer | None:
    """The treatment that gains most at equal rate against the first one, if rates were swept."""
    table = rates(rows, metric)
    if table is None or table.frame["gain"].isna().all():
        return None
    higher = better_of(metric) == "higher"
    frame = table.frame[table.frame["gain"].notna()]
    best = frame.loc[frame["gain"].idxmax() if higher else frame["gain"].idxmin()]
    gain, low, high = (best[key] for key in ("gain", "gain 95 % from", "gain to"))
    first, name = best["against"], best["treatment"]
    if (gain > 0) != higher:
        return Answer(
            where, f"No treatment gains against “{first}”: the nearest, “{name}”, has "
            f"{_signed(gain, metric)} at equal rate{_interval(low, high)}.",
            *_verdict(low, high, len(table.frame)),
        )  # fmt: skip
    saved = best["BD-rate %"]
    rate = ""
    if not math.isnan(saved):
        rate = f" At equal {metric} it needs {abs(saved):.0f} % {'less' if saved < 0 else 'more'} "
        rate += f"rate, as far as the curves share scores ({best['compared']} of {best['curves']})."
    return Answer(
        where, f"“{name}” gains most: {_signed(gain, metric)} at equal rate against “{first}”"
        f"{_interval(low, high)}.{rate}", *_verdict(low, high, len(table.frame)),
    )  # fmt: skip


def _of_means(where: str, rows: Rows, metric: str) -> Answer:
    """The treatment with the best mean, against the second."""
    frame = ranking(rows, metric).frame
    mean = f"mean {metric}"
    if frame.empty:
        return Answer(where, "No treatment has a figure on every reference.", "open", _NOTHING)
    best = frame.iloc[0]
    words = f"{metric} {figure(float(best[mean]))} {_unit(metric)}".rstrip()
    if len(frame) == 1:
        return Answer(
            where, f"“{best['treatment']}” alone: {words} in the mean.", "single", _NOTHING
        )
    names = rows.frame.groupby("treatment", sort=False)["treatment name"].first()
    if names.nunique() == 1:
        worst = frame.iloc[-1]
        end = f"{metric} {figure(float(worst[mean]))} {_unit(metric)}".rstrip()
        return Answer(
            where, f"“{names.iloc[0]}” alone, from {words} ({best['treatment']}) to {end} "
            f"({worst['treatment']}).", "single", _NOTHING,
        )  # fmt: skip
    second = frame.iloc[1]
    gain = -float(second["minus the best"])
    low, high = -second["to"], -second["95 % from"]
    chance = second["p (Holm)"]
    shown = chance is not None and chance < LEVEL
    return Answer(
        where, f"“{best['treatment']}” {'is best' if shown else 'is ahead'}, {words} in the mean: "
        f"{_signed(gain, metric)} against “{second['treatment']}”{_interval(low, high)}.",
        "shown" if shown else "open",
        f"{'Significant' if shown else 'Not significant'} at the {LEVEL:.0%} level, corrected for "
        "all pairs of treatments (Holm).",
    )  # fmt: skip


_NOTHING = "There is nothing to compare it with."


def _verdict(low: float, high: float, compared: int) -> tuple[str, str]:
    """Whether an interval excludes zero, and what that says."""
    if math.isnan(low):
        return "open", "One reference says nothing about others."
    shown = low > 0 or high < 0
    words = f"The interval over references {'excludes' if shown else 'includes'} zero"
    if compared > 1:
        words += f"; it is not corrected for the choice among {compared} treatments"
    return "shown" if shown else "open", f"{words}."


def _signed(value: float, metric: str) -> str:
    sign = "−" if value < 0 else "+"
    return f"{sign}{figure(abs(float(value)))} {_unit(metric)} of {metric}".replace("  ", " ")


def _interval(low: Any, high: Any) -> str:
    if low is None or high is None or math.isnan(low) or math.isnan(high):
        return ""
    ends = " to ".join(f"{'−' if v < 0 else '+'}{figure(abs(float(v)))}" for v in (low, high))
    return f" (95 % interval {ends})"


def _unit(metric: str) -> str:
    return parse_figures(metric, "metric")[0].declared(Metric).unit
