"""The answer of a run in sentences, each made from the figures that it quotes."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

from magnetite.core.quantities import abbreviated, counted, figure
from magnetite.experiment.ranking import LEVEL, WORSE, ranking
from magnetite.experiment.rates import rate_curves, rates
from magnetite.experiment.results import RunRows, better_of, declared

_NOTHING = "There is nothing to compare it with."
_ONE = "One reference allows no test."


@dataclass(frozen=True)
class Answer:
    """The finding after one degradation, or at one level of it."""

    #: The degradation's name, with its chain where levels differ.
    where: str
    sentence: str
    #: `shown` where a difference is shown on other references; `open` where not; or `single`.
    verdict: str
    #: Grounds of the verdict.
    grounds: str
    #: The treatment that the sentence prefers; empty where there is none.
    best: str = ""
    #: Omissions, with their reasons.
    notes: tuple[str, ...] = ()


def answers(rows: RunRows, metric: str) -> list[Answer]:
    """The finding after each degradation: of rates where there are rates, of means otherwise.

    A degradation of several levels has one sentence over all of them only where the same
    treatment is shown to be best at each.
    """
    made: list[Answer] = []
    for (name,), part in rows.split(["degradation name"]):
        levels = [(str(key[0]), own) for key, own in part.split(["degradation"])]
        own = [_answer(f"{name}: {chain}", level, metric) for chain, level in levels]
        if len(own) == 1:
            made.append(replace(own[0], where=str(name)))
            continue
        over_all = _answer(f"{name}, all {len(own)} levels", part, metric)
        agree = {(one.best, one.verdict) for one in (*own, over_all)}
        if over_all.verdict == "shown" and len(agree) == 1:
            words = f"{over_all.grounds} The same is shown at each of the {len(own)} levels."
            made.append(replace(over_all, grounds=words))
        else:
            made += own
    return made


def _answer(where: str, rows: RunRows, metric: str) -> Answer:
    return _of_rates(where, rows, metric) or _of_means(where, rows, metric)


def _of_rates(where: str, rows: RunRows, metric: str) -> Answer | None:
    """The treatment that gains most at equal rate against the first one, if rates were swept."""
    table = rates(rows, metric)
    if table is None or table.frame["gain"].isna().all():
        return None
    higher = better_of(metric) == "higher"
    frame = table.frame[table.frame["gain"].notna()]
    best = frame.loc[frame["gain"].idxmax() if higher else frame["gain"].idxmin()]
    first, name, gain = best["against"], best["treatment"], float(best["gain"])
    ends = _interval(best["gain 95 % from"], best["gain to"], _unit(metric))
    over = f"over {counted(best['curves'], 'degraded picture')}"
    notes = (*table.notes, *_uncoded(rows, metric))
    verdict = _grounds(best["p"], len(frame), rows)
    if (gain > 0) != higher or gain == 0:
        words = (
            f"No treatment gains against “{first}”: the nearest, “{name}”, has "
            f"{_signed(gain, metric)} at equal rate{ends}, {over}."
        )
        notes = tuple(note for note in notes if not note.startswith("BD-rate"))
        unsure = frame[(frame["treatment"] != name) & ~(frame["p"] < LEVEL)]["treatment"]
        verdict = _but_for(unsure, verdict, f"to differ from “{first}”")
        return Answer(where, words, *verdict, str(first), notes)
    if len(frame) > 1:
        untested = "; differences among the treatments are not tested"
        verdict = verdict[0], f"{verdict[1].removesuffix('.')}{untested}."
    verb = "gains most" if higher else "has the lowest"
    words = (
        f"“{name}” {verb}: {_signed(gain, metric)} at equal rate against “{first}”{ends}, {over}."
    )
    return Answer(where, f"{words}{_saving(best, metric)}", *verdict, str(name), notes)


def _saving(row: Any, metric: str) -> str:
    """The rate at equal score, with its interval and the number of pictures that it is over."""
    saved = float(row["BD-rate %"])
    if math.isnan(saved):
        return ""
    sense = "less" if saved < 0 else "more"
    ends = _interval(row["95 % from"], row["to"], "%")
    return (
        f" At equal {metric} it needs {figure(abs(saved))} % {sense} rate{ends}, over the "
        f"{counted(row['compared'], 'degraded picture')} on which all curves share scores."
    )


def _uncoded(rows: RunRows, metric: str) -> list[str]:
    """Treatments without a rate, with their mean score."""
    found = rate_curves(rows, metric)
    if not found.uncoded:
        return []
    means = {
        name: "no value in common" if math.isnan(mean) else _figure(mean, metric)
        for name, mean in found.uncoded.items()
    }
    words = ", ".join(f"“{name}” ({mean})" for name, mean in means.items())
    over = counted(found.uncoded_pictures, "degraded picture")
    return [
        f"not compared by rate, having no codec: {words}; mean {metric} over {over} in brackets"
    ]


def _of_means(where: str, rows: RunRows, metric: str) -> Answer:
    """The treatment with the best mean, against the second."""
    table = ranking(rows, metric)
    ranked = table.frame[table.frame["rank"].notna()]
    finite = ranked[ranked["verdict"] != "not compared"]
    if ranked.empty:
        words = "No treatment has a figure that can be compared."
        return Answer(where, words, "open", _NOTHING, "", table.notes)
    if finite.empty or finite.iloc[0]["rank"] > 1:
        return _infinite(where, ranked, metric, table.notes)
    best, mean = finite.iloc[0], f"mean {metric}"
    name, words = best["treatment"], f"{metric} {_figure(best[mean], metric)} in the mean"
    if len(finite) == 1:
        return Answer(where, f"“{name}”: {words}.", "single", _NOTHING, str(name), table.notes)
    names = rows.frame["treatment name"].unique()
    if len(names) == 1:
        worst = finite.iloc[-1]
        sentence = (
            f"“{names[0]}” alone, from {metric} {_figure(best[mean], metric)} ({name}) to "
            f"{_figure(worst[mean], metric)} ({worst['treatment']}) in the mean."
        )
        return Answer(where, sentence, "single", _NOTHING, str(name), table.notes)
    second, rest = finite.iloc[1], finite.iloc[2:]
    ends = _interval(-second["to"], -second["95 % from"], _unit(metric))
    pairs = len(finite) * (len(finite) - 1) // 2
    unsure = rest[rest["verdict"] != WORSE]["treatment"]
    verdict = _but_for(unsure, _grounds(second["p"], pairs, rows), "to be worse")
    gain = -float(second["minus the best"])
    if gain == 0:
        sentence = f"“{name}” and “{second['treatment']}” have the same {words}."
    else:
        ahead = "is best" if verdict[0] == "shown" else "is ahead"
        sentence = (
            f"“{name}” {ahead}, {words}: {_signed(gain, metric)} "
            f"against “{second['treatment']}”{ends}, over "
            f"{counted(int(second['rows']), 'degraded picture')}."
        )
    return Answer(where, sentence, *verdict, str(name), table.notes)


def _infinite(where: str, ranked: Any, metric: str, notes: tuple[str, ...]) -> Answer:
    """Where scores of the best are infinite on all pictures, as of identical pictures."""
    best = ranked[ranked["rank"] == 1].iloc[0]
    mean = float(best[f"mean {metric}"])
    same = ranked[ranked[f"mean {metric}"] == mean]
    names = ", ".join(f"“{name}”" for name in same["treatment"])
    sentence = (
        f"{names}: {metric} {figure(mean)} on all pictures, which no test compares with others."
    )
    rest = ranked[ranked["rank"] > len(same)]
    if len(rest) and math.isfinite(rest.iloc[0][f"mean {metric}"]):
        after = rest.iloc[0]
        sentence += (
            f" Of the others, “{after['treatment']}” has the best mean: "
            f"{metric} {_figure(after[f'mean {metric}'], metric)}."
        )
    grounds = "An infinite score has no interval."
    return Answer(where, sentence, "open", grounds, str(best["treatment"]), notes)


def _grounds(p: Any, compared: int, rows: RunRows) -> tuple[str, str]:
    """Verdict and grounds of a difference that was picked from several."""
    number = rows.frame["reference"].nunique()
    if p is None or math.isnan(p):
        return "open", _ONE if number == 1 else "Too few references in common allow no test."
    shown = p < LEVEL
    words = f"The 95 % interval over references {'excludes' if shown else 'includes'} zero"
    if compared > 1:
        words += f"; it holds together for all {compared} comparisons"
    return "shown" if shown else "open", f"{words} ({_chance(p)})."


def _but_for(names: Any, verdict: tuple[str, str], words: str) -> tuple[str, str]:
    """The verdict on the nearest treatment, open where others are not shown to differ."""
    if verdict[0] != "shown" or not len(names):
        return verdict
    others = abbreviated([f"“{name}”" for name in names])
    return "open", f"{verdict[1]} Not shown {words}: {others}."


def _chance(p: float) -> str:
    return "p < 0.001" if p < 0.001 else f"p = {p:.4f}"


def _signed(value: float, metric: str) -> str:
    return f"{_sign(value)}{figure(abs(float(value)))} {_unit(metric)} of {metric}".replace(
        "  ", " "
    )


def _sign(value: float) -> str:
    return "−" if value < 0 else "+" if value > 0 else ""


def _figure(value: Any, metric: str) -> str:
    return f"{figure(float(value))} {_unit(metric)}".rstrip()


def _interval(low: Any, high: Any, unit: str) -> str:
    if low is None or high is None or math.isnan(low) or math.isnan(high):
        return ""
    ends = " to ".join(f"{_sign(v)}{figure(abs(float(v)))}" for v in (low, high))
    return f" (95 % interval {ends} {unit}".rstrip() + ")"


def _unit(metric: str) -> str:
    figure = declared(metric)
    return "" if figure is None else figure.unit
