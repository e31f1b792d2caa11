"""The figures of a blind test: scale values, mean opinion scores or thresholds, with intervals."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple, get_args

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.calibrate.fitting import Estimate
from magnetite.core.errors import InputError, check_choice
from magnetite.core.opinion.rating import mean_with_interval, opinion_scores, screened
from magnetite.core.opinion.record import REFERENCE, Answers, BlindTest, Stimulus
from magnetite.core.opinion.scaling import Model, chances, connected, scale_intervals, scale_values
from magnetite.core.opinion.threshold import fitted_threshold, pooled_threshold
from magnetite.core.quantities import counted
from magnetite.core.table import Tabular

#: Chance above which a rater's answers may be random ones, and fewest raters that are screened.
_RANDOM, _LEAST_RATERS = 0.01, 4
#: Right answers of an adaptive test.
_USUAL = 0.8
#: Chance of an unlikely preference, at least: lapses are not held against a rater.
_LAPSE = 0.02
#: Standard errors by which preferences are less likely than those of a rater who follows the scale.
_SURE = 2.326


class OpinionRow(NamedTuple):
    """One figure with its 95 % interval."""

    content: str
    condition: str
    figure: str
    value: float
    low: float | None
    high: float | None
    unit: str
    answers: int


@dataclass(frozen=True)
class PsychometricFunction:
    """Shares of right answers over the level, dn rms, and the threshold and slope of all raters."""

    content: str
    kind: str
    levels: Float64
    right: Float64
    shown: Float64
    threshold: float
    slope: float


@dataclass(frozen=True, repr=False)
class Opinions(Tabular):
    """Figures of a test, from the answers of its raters."""

    test: BlindTest
    #: Raters whose answers count, and those left out with the reason.
    raters: tuple[str, ...]
    left_out: dict[str, str]
    figures: tuple[OpinionRow, ...]
    #: Scale value or mean opinion of each picture, by its name; empty for thresholds.
    values: dict[str, Estimate]
    #: Whether raters are simulated: one at least, and all of them.
    simulated: bool
    all_simulated: bool
    notes: tuple[str, ...]
    #: Of thresholds: the answers of all raters and the function through them.
    functions: tuple[PsychometricFunction, ...] = ()

    def rows(self) -> list[OpinionRow]:
        """A row for each figure."""
        return list(self.figures)


def analyse(test: BlindTest, answers: Sequence[Answers], model: Model | None = None) -> Opinions:
    """Figures of a blind test from the answers to it.

    Raters are screened first. Pairs give scale values in just noticeable differences, of each
    reference its own, with the reference at 0 where it was among the pictures; ratings the mean
    opinion score and its difference from that of the hidden reference; thresholds the rms
    difference that is detected in 74 % of the trials.

    Parameters
    ----------
    test : BlindTest
    answers : sequence of Answers
        Of each rater.
    model : "thurstone" or "bradley-terry", optional
        Of pairs; "thurstone" if left out.

    Returns
    -------
    Opinions

    Raises
    ------
    InputError
        If a rater is there twice, there are no answers, or all raters are left out.
    """
    names = [one.rater for one in answers]
    twice = sorted({name for name in names if names.count(name) > 1})
    if twice:
        raise InputError(f"the rater {twice[0]!r} is there twice: name each by one file")
    given = [one for one in answers if one.trials]
    if not given:
        raise InputError("there are no answers")
    notes = [f"{one.rater} stopped after {counted(len(one.trials), 'answer')}" for one in given
             if not one.complete]  # fmt: skip
    if len(given) < len(answers):
        notes.append(f"files without answers: {len(answers) - len(given)}")
    simulated = sum(one.simulated for one in given)
    if simulated:
        mixed = f"{simulated} of {len(given)} raters are simulated; all answers count alike"
        alone = "the answers are those of simulated raters, not of people"
        notes.insert(0, alone if simulated == len(given) else mixed)
    if model is not None:
        check_choice("model", model, get_args(Model))
        if test.design != "pairs":
            raise InputError(
                f"--model goes with the design pairs; the design of this test is {test.design}"
            )
    reasons = {"pairs": _unsure, "rating": _far_off, "threshold": _unseeing}[test.design](
        test, given
    )
    kept = [one for one in given if one.rater not in reasons]
    if not kept:
        raise InputError(
            "all raters are left out: " + "; ".join(f"{k}: {v}" for k, v in reasons.items())
        )
    values: dict[str, Estimate] = {}
    functions: list[PsychometricFunction] = []
    if test.design == "pairs":
        figures = _of_pairs(test, kept, model or "thurstone", values, notes)
    elif test.design == "rating":
        figures = _of_ratings(test, kept, values, notes)
    else:
        figures = _of_thresholds(test, kept, functions, notes)
    if len(kept) == 1:
        notes.append("one rater: the figures are theirs alone, without interval over people")
    return Opinions(
        test, tuple(one.rater for one in kept), reasons, tuple(figures), values,
        simulated > 0, simulated == len(given), tuple(notes), tuple(functions),
    )  # fmt: skip


def wins_of(answers: Answers, stimuli: Sequence[Stimulus]) -> Float64:
    """How often each picture was preferred to each other one; a tie is half a win for each."""
    index = {one.name: k for k, one in enumerate(stimuli)}
    wins = np.zeros((len(stimuli), len(stimuli)))
    for trial in answers.trials:
        if trial.first not in index:
            continue
        left, right = index[trial.first], index[trial.second]
        share = {"left": 1.0, "right": 0.0, "tie": 0.5}[trial.answer]
        wins[left, right] += share
        wins[right, left] += 1 - share
    return wins


def _of_pairs(
    test: BlindTest, kept: Sequence[Answers], model: Model, values: dict[str, Estimate],
    notes: list[str],
) -> list[OpinionRow]:  # fmt: skip
    figures = []
    for content, stimuli in test.contents.items():
        by_rater = np.array([wins_of(one, stimuli) for one in kept])
        wins = by_rater.sum(axis=0)
        if not connected(wins):
            notes.append(f"{content}: left out, since the answers do not connect its pictures")
            continue
        conditions = [one.condition for one in stimuli]
        zero = conditions.index(REFERENCE) if REFERENCE in conditions else None
        found = scale_intervals(by_rater, model, zero)
        for k, (one, estimate) in enumerate(zip(stimuli, found, strict=True)):
            values[one.name] = estimate
            count = round(float(wins[k].sum() + wins[:, k].sum()))
            figures.append(_row(one, "scale value", estimate, "JND", count))
    return figures


def _grades(test: BlindTest, answers: Sequence[Answers]) -> Float64:
    """Mean grade of each rater for each picture, NaN where there is none."""
    index = {one.name: k for k, one in enumerate(test.stimuli)}
    sums, counts = (np.zeros((len(answers), len(index))) for _ in range(2))
    for rater, one in enumerate(answers):
        for trial in one.trials:
            sums[rater, index[trial.first]] += int(trial.answer)
            counts[rater, index[trial.first]] += 1
    with np.errstate(invalid="ignore"):
        return np.asarray(sums / counts)


def _of_ratings(
    test: BlindTest, kept: Sequence[Answers], values: dict[str, Estimate], notes: list[str]
) -> list[OpinionRow]:
    grades = _grades(test, kept)
    index = {one.name: k for k, one in enumerate(test.stimuli)}
    figures = []
    number = np.isfinite(grades).sum(axis=0)
    graded = [one for one in test.stimuli if number[index[one.name]]]
    scores, alike = opinion_scores(grades[:, number > 0])
    if not alike:
        notes.append(
            "mean opinion scores are over different raters, whose deviations cannot be estimated: "
            "compare only pictures graded by the same raters"
        )
    elif (number[number > 0] < len(kept)).any():
        notes.append(
            "not every rater graded every picture: mean opinion scores are adjusted for each "
            "rater's mean deviation"
        )
    for one, score in zip(graded, scores, strict=True):
        own = grades[:, index[one.name]]
        values[one.name] = score
        count = int(number[index[one.name]])
        figures.append(_row(one, "mean opinion score", score, "grade", count))
        reference = test.reference_of(one)
        if reference is not None and reference is not one:
            # Differential: 5 where it is graded as its hidden reference is.
            difference = own - grades[:, index[reference.name]] + 5
            both = difference[np.isfinite(difference)]
            if both.size:
                estimate = mean_with_interval(both)
                figures.append(_row(one, "differential score", estimate, "grade", both.size))
    return figures


def _of_thresholds(
    test: BlindTest,
    kept: Sequence[Answers],
    functions: list[PsychometricFunction],
    notes: list[str],
) -> list[OpinionRow]:
    figures = []
    panels = set()
    for (content, kind), series in test.series.items():
        own = {one.rater: _levels(series, one) for one in kept}
        each = [levels for levels in own.values() if levels[0].size]
        if not each:
            continue
        panels.add(tuple(rater for rater, levels in own.items() if levels[0].size))
        found = [fitted_threshold(levels, right)[:2] for levels, right in each]
        functions.append(_function(content, kind, each))
        count = sum(levels.size for levels, _ in each)
        threshold = pooled_threshold(found)
        label = Stimulus("", content, kind, kind, "", 0.0)
        figures.append(_row(label, "threshold", threshold, "dn rms", count))
        ends = series[0].rms, series[-1].rms
        if not ends[0] < threshold.value < ends[1]:
            notes.append(
                f"{content}, {kind}: the threshold of {threshold.value:.3g} dn is outside the "
                f"levels shown, {ends[0]:.3g} to {ends[1]:.3g} dn: show others"
            )
            continue
        if not ends[0] <= threshold.low <= threshold.high <= ends[1]:
            notes.append(
                f"{content}, {kind}: the interval of the threshold, {threshold.low:.3g} to "
                f"{threshold.high:.3g} dn, extends beyond the levels shown, {ends[0]:.3g} to "
                f"{ends[1]:.3g} dn: show more levels for both ends of the setting"
            )
        for name, unit, pick in (
            ("setting at the threshold", "", [one.setting for one in series]),
            ("rate at the threshold", "bpp", [one.rate for one in series]),
        ):
            numbers = [number for number in pick if number is not None]
            if len(numbers) == len(series) and len(set(numbers)) > 1:
                estimate = _at_threshold(threshold, series, numbers)
                figures.append(_row(label, name, estimate, unit, count))
    if len(panels) > 1:
        notes.append(
            "not every rater answered every series: thresholds of different kinds and references "
            "are over different raters"
        )
    return figures


def _function(
    content: str, kind: str, each: Sequence[tuple[Float64, Float64]]
) -> PsychometricFunction:
    """The function through the answers of all raters."""
    levels, right = (np.concatenate(one) for one in zip(*each, strict=True))
    threshold, _, slope = fitted_threshold(levels, right)
    shown = np.unique(levels)
    counts = np.array([[(levels == v).sum(), right[levels == v].sum()] for v in shown], float).T
    return PsychometricFunction(content, kind, shown, counts[1], counts[0], threshold, slope)


def _at_threshold(
    threshold: Estimate, series: Sequence[Stimulus], numbers: Sequence[float]
) -> Estimate:
    """A number of the series at the threshold, between levels on straight lines of logarithms.

    An end of the interval beyond the levels shown is NaN.
    """
    logs = np.log([one.rms for one in series])
    value, *ends = (
        float(np.interp(math.log(end), logs, numbers, math.nan, math.nan))
        for end in (threshold.value, threshold.low, threshold.high)
    )
    return Estimate(value, *(ends if numbers[0] < numbers[-1] else ends[::-1]))


def _levels(series: Sequence[Stimulus], answers: Answers) -> tuple[Float64, Float64]:
    """Level of each trial of a series, and whether it was answered rightly."""
    rms = {one.name: one.rms for one in series}
    levels, right = [], []
    for trial in answers.trials:
        shown = trial.first if trial.first in rms else trial.second
        if shown in rms:
            levels.append(rms[shown])
            right.append(float(trial.answer == ("left" if shown == trial.first else "right")))
    return np.array(levels), np.array(right)


def _unsure(test: BlindTest, given: Sequence[Answers]) -> dict[str, str]:
    """Raters whose preferences are likelier by chance than by the others' scale values."""
    if len(given) < _LEAST_RATERS:
        return {}
    every = {one.rater: [wins_of(one, stimuli) for stimuli in test.contents.values()]
             for one in given}  # fmt: skip
    found = {}
    for rater, own in every.items():
        evidence = expected = variance = 0.0
        for k, wins in enumerate(own):
            others = np.sum([w[k] for name, w in every.items() if name != rater], axis=0)
            if not connected(others):
                continue
            chance = chances(scale_values(others)).clip(_LAPSE, 1 - _LAPSE)
            told = np.log(chance / 0.5)
            evidence += float((wins * told).sum())
            # Of answers that follow the scale: each pair is there both ways.
            counts = (wins + wins.T) / 2
            expected += float((counts * (chance * told + (1 - chance) * told.T)).sum())
            variance += float((counts * chance * (1 - chance) * (told - told.T) ** 2).sum())
        if evidence < min(0.0, expected - _SURE * math.sqrt(variance)):
            found[rater] = (
                f"{sum(float(w.sum()) for w in own):.0f} preferences are likelier by chance than "
                "by the scale of the others"
            )
    return found


def _far_off(test: BlindTest, given: Sequence[Answers]) -> dict[str, str]:
    if len(given) < _LEAST_RATERS:
        return {}
    reasons = screened(_grades(test, given))
    return {given[number].rater: words for number, words in reasons.items()}


def _unseeing(test: BlindTest, given: Sequence[Answers]) -> dict[str, str]:
    """Raters whose share of right answers chance explains."""
    found = {}
    for one in given:
        right = [_levels(series, one)[1] for series in test.series.values()]
        correct, total = (int(sum(f(r) for r in right)) for f in (np.sum, np.size))
        if _by_chance(correct, total):
            found[one.rater] = f"{correct} of {total} answers are right, which chance explains"
    return found


def _by_chance(hits: int, total: int) -> bool:
    """Whether as many right answers are not rare by chance, and rare among those of the test.

    An adaptive test is answered rightly in about `_USUAL` of its trials, whatever the threshold.
    """
    from scipy.special import bdtr, bdtrc

    explained = hits == 0 or float(bdtrc(hits - 1, total, 0.5)) > _RANDOM
    return explained and float(bdtr(hits, total, _USUAL)) < _RANDOM


def _row(one: Stimulus, figure: str, estimate: Estimate, unit: str, answers: int) -> OpinionRow:
    low, high = (None if math.isnan(v) else v for v in (estimate.low, estimate.high))
    return OpinionRow(one.content, one.condition, figure, estimate.value, low, high, unit, answers)
