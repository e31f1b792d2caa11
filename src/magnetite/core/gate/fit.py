"""Fit a gate to labelled pictures: thresholds of single figures, and a rule of several."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.analysis.statistics import ranks
from magnetite.core.arrays import Bools, Float64, Indices
from magnetite.core.errors import InputError
from magnetite.core.extras import require
from magnetite.core.gate.gate import Feature, Gate
from magnetite.core.gate.rates import (
    Share,
    area,
    jackknife_reach,
    most_accepted,
    rate,
    references_needed,
    threshold,
)
from magnetite.core.methods.catalogue import find
from magnetite.core.quantities import counted, figure

#: Fewest pictures of a class, and folds of the cross-validation at most.
LEAST, _FOLDS = 5, 5
#: Reach of an interval on the scale of logarithms at most.
_MOST_LOG = 700.0
#: Share of false accepts that a gate promises, and its confidence, unless others are stated.
FALSE_ACCEPTS, CONFIDENCE = 0.05, 0.9


class Single(NamedTuple):
    """One figure as a gate of its own."""

    figure: str
    #: Whether higher or lower values are accepted.
    accepts: str
    area: float
    area_low: float
    area_high: float
    threshold: float
    false_accepts: float
    false_rejects: float


class Promise(NamedTuple):
    """Bound of the false accepts among new references."""

    #: Largest share of a new reference's rejected pictures that is accepted, and as asked for.
    false_accepts: float
    asked: float
    confidence: float
    #: References with rejected pictures behind the bound.
    references: int

    @property
    def words(self) -> str:
        """The bound as a sentence."""
        return (
            f"accepts at most {figure(100 * self.false_accepts)} % of the rejected pictures of new "
            f"references, with {100 * self.confidence:g} % confidence"
        )


@dataclass(frozen=True)
class Fitted:
    """A gate, the performance of single figures, and remarks."""

    gate: Gate
    singles: tuple[Single, ...]
    #: Of the rule, on references that it had not seen.
    results: dict[str, Share]
    remarks: tuple[str, ...]
    #: None for scores.
    promise: Promise | None = None


def fit_classes(
    figures: Mapping[str, Sequence[float]],
    accepted: Sequence[bool],
    groups: Sequence[str],
    version: str,
    false_accepts: float = FALSE_ACCEPTS,
    confidence: float = CONFIDENCE,
    pictures: Sequence[str] = (),
    frames: Sequence[str] = (),
) -> Fitted:
    """Fit a gate to accepted and rejected pictures.

    The rule is logistic regression on standardised figures, regularised by the sum of squared
    weights. Its chances are cross-validated with all pictures of a reference in one fold, and the
    threshold is the lowest that promises the share of false accepts that way; where there are too
    few references for that, the lowest without a false accept.

    Parameters
    ----------
    figures : mapping of name to values, one for each picture
    accepted : sequence of bool
    groups : sequence of str
        The reference that each picture comes from.
    version : str
        Of the program that measured the figures.
    false_accepts : float
        Largest share of the rejected pictures of a new reference that is accepted, 0 to 1.
    confidence : float
        Of that promise, 0.5 to below 1.
    pictures : sequence of str, optional
        Names of the pictures, for remarks.
    frames : sequence of str, optional
        Size, colour and depth of each picture in words; the gate keeps them.

    Raises
    ------
    InputError
        If a class has too few pictures, no figure is usable, or the confidence is out of range.
    """
    if not 0.5 <= confidence < 1:
        raise InputError(f"the confidence is {confidence:g}, not 0.5 to below 1")
    require("sklearn", "gates", "fitting a gate")
    from sklearn.linear_model import LogisticRegression

    names, x, held, remarks = _usable(figures, pictures)
    labels = np.asarray(accepted, bool)[held]
    groups = [group for group, kept in zip(groups, held, strict=True) if kept]
    for count, word in ((int(labels.sum()), "accepted"), (int((~labels).sum()), "rejected")):
        if count == 0:
            raise InputError(f"no picture is labelled {word}: a gate needs both classes")
        if count < LEAST:
            raise InputError(
                f"{counted(count, 'picture')} labelled {word}: a gate needs {LEAST} or more"
            )
    units = _units(groups)

    def cut_of(values: Float64) -> float:
        return threshold(values, labels, units, false_accepts, confidence)

    singles = [_single(name, x[:, k], labels, units, cut_of) for k, name in enumerate(names)]
    scaled, mean, sd = _scaled(x)
    folds, told = _folds(groups, labels)
    remarks += told

    def fitted(rows: Bools) -> Any:
        model = LogisticRegression(C=1.0, solver="newton-cholesky", tol=1e-10)
        return model.fit(scaled[rows], labels[rows])

    chances = np.empty(labels.size)
    for fold in np.unique(folds):
        held = folds == fold
        if len(set(labels[~held].tolist())) < 2:
            raise InputError(
                "all pictures of one class come from one reference: the rule cannot be tested on "
                "references that it has not seen"
            )
        chances[held] = fitted(~held).predict_proba(scaled[held])[:, 1]
    cut = min(max(cut_of(chances), 1e-9), 1 - 1e-9)
    model = fitted(np.ones(labels.size, bool))
    passed, bad = chances >= cut, units[~labels]
    results = {
        "area": area(chances, labels, units),
        "false accepts": rate(passed[~labels], bad),
        "false rejects": rate(~passed[labels], units[labels]),
    }
    promise = Promise(
        most_accepted(passed[~labels], bad, confidence), false_accepts, confidence,
        np.unique(bad).size,
    )  # fmt: skip
    remarks += [*_kept(promise, bad.size), _overlap(chances, labels)]
    facts = _facts(labels.size, groups, results, frames)
    facts |= {"accepted": int(labels.sum()), "promise": promise._asdict()}
    gate = Gate(
        _features(names, x, mean, sd, model.coef_[0]), float(model.intercept_[0]), cut, False,
        facts, version,
    )  # fmt: skip
    ranked = tuple(sorted(singles, key=lambda single: -single.area))
    return Fitted(gate, ranked, results, tuple(remarks), promise)


def fit_scores(
    figures: Mapping[str, Sequence[float]],
    scores: Sequence[float],
    groups: Sequence[str],
    version: str,
    least: float,
    pictures: Sequence[str] = (),
    frames: Sequence[str] = (),
) -> Fitted:
    """Fit a gate to scores, such as opinions: accept from a predicted score on.

    The rule is linear regression on standardised figures, regularised by the sum of squared weights
    and cross-validated by reference.

    Raises
    ------
    InputError
        If there are too few pictures, or all have one score.
    """
    require("sklearn", "gates", "fitting a gate")
    from sklearn.linear_model import Ridge

    names, x, held, remarks = _usable(figures, pictures)
    wanted = np.asarray(scores, float)[held]
    groups = [group for group, kept in zip(groups, held, strict=True) if kept]
    if wanted.size < 2 * LEAST:
        raise InputError(
            f"{counted(wanted.size, 'picture')} with scores: a gate needs {2 * LEAST} or more"
        )
    if wanted.std() == 0:
        raise InputError("all scores are equal: there is nothing to learn from them")
    scaled, mean, sd = _scaled(x)
    folds, told = _folds(groups, None)
    remarks += told
    predicted = np.empty(wanted.size)
    for fold in np.unique(folds):
        held = folds == fold
        predicted[held] = Ridge(alpha=1.0).fit(scaled[~held], wanted[~held]).predict(scaled[held])
    model = Ridge(alpha=1.0).fit(scaled, wanted)
    units = _units(groups)
    results = {
        "Pearson": _correlation(predicted, wanted, units),
        "Spearman": _correlation(ranks(predicted), ranks(wanted), units),
        "rmse": _rmse(predicted - wanted, units),
    }
    gate = Gate(
        _features(names, x, mean, sd, model.coef_), float(model.intercept_), least, True,
        _facts(wanted.size, groups, results, frames), version,
    )  # fmt: skip
    return Fitted(gate, (), results, tuple(remarks))


def _usable(
    figures: Mapping[str, Sequence[float]], pictures: Sequence[str]
) -> tuple[list[str], Float64, Bools, list[str]]:
    """Names and values of usable figures, which pictures have all of them, and remarks.

    A figure that most pictures have is kept, and the few pictures without it are left out by
    name; one that more than a tenth of the pictures lack is left out itself.
    """
    remarks: list[str] = []
    columns = {name: np.asarray(values, float) for name, values in figures.items()}
    held = np.ones(len(next(iter(columns.values()), ())), bool)
    for name, column in list(columns.items()):
        lacking = ~np.isfinite(column)
        if not lacking.any():
            continue
        named = _named(lacking, pictures)
        if lacking.mean() > _MOST_LACKING:
            remarks.append(f"{name} left out: {named} no finite value")
            del columns[name]
        else:
            remarks.append(f"left out: {named} no finite {name}")
            held &= ~lacking
    for name, column in list(columns.items()):
        if column[held].std() == 0:
            remarks.append(f"{name} left out: it has one value for all pictures")
            del columns[name]
    if not columns:
        raise InputError("no figure is usable: none is finite and differs between the pictures")
    return list(columns), np.stack(list(columns.values()), axis=1)[held], held, remarks


#: A figure that more than this share of the pictures lack is left out, not the pictures.
_MOST_LACKING = 0.1


def _named(lacking: Bools, pictures: Sequence[str]) -> str:
    """The pictures without a value, by name where names are known."""
    count = int(lacking.sum())
    names = [name for name, out in zip(pictures, lacking, strict=False) if out][:3]
    words = f"{count} of {lacking.size} pictures"
    if names:
        words += f" ({', '.join(names)}{' and others' if count > 3 else ''})"
    return f"{words} {'has' if count == 1 else 'have'}"


def _units(groups: Sequence[str]) -> Indices:
    """Number of each picture's reference; of a single reference, each picture is its own unit."""
    names, number = np.unique(np.asarray(groups), return_inverse=True)
    return np.asarray(number if len(names) > 1 else np.arange(len(groups)), np.intp)


def _kept(promise: Promise, rejected: int) -> list[str]:
    """Remark where the references are too few for the promise that was asked for."""
    if promise.false_accepts <= promise.asked:
        return []
    asked, confidence = f"{100 * promise.asked:g}", f"{100 * promise.confidence:g}"
    words = (
        f"{promise.references} references with rejected pictures do not carry a promise of {asked} "
        f"% with {confidence} % confidence"
    )
    if promise.asked == 0:
        return [f"{words}: no number does"]
    needed = references_needed(promise.asked, promise.confidence, promise.references == rejected)
    return [f"{words}: it takes {needed}, without a false accept"]


def _single(
    name: str, values: Float64, labels: Bools, units: Indices, cut_of: Callable[[Float64], float]
) -> Single:
    """One figure with the threshold for the share of false accepts, turned so that high is good."""
    own = area(values, labels, units)
    sign = 1.0 if own.share >= 0.5 else -1.0
    turned = sign * values
    own = area(turned, labels, units)
    cut = cut_of(turned)
    return Single(
        name, "higher" if sign > 0 else "lower", *own, sign * cut,
        float((turned[~labels] >= cut).mean()), float((turned[labels] < cut).mean()),
    )  # fmt: skip


def _scaled(x: Float64) -> tuple[Float64, Float64, Float64]:
    mean, sd = x.mean(axis=0), x.std(axis=0)
    return (x - mean) / sd, mean, sd


def _folds(groups: Sequence[str], labels: Bools | None) -> tuple[Indices, list[str]]:
    """Number of the fold of each picture: all of a reference in one, or pictures one by one."""
    names, number = np.unique(np.asarray(groups), return_inverse=True)
    if len(names) >= 2:
        return np.asarray(number % min(_FOLDS, len(names)), np.intp), []
    order = np.arange(len(groups))
    if labels is not None:  # both classes in every fold
        order = np.argsort(np.argsort(labels, kind="stable"), kind="stable")
    told = "all pictures come from one reference: the rates are not about other references"
    return np.asarray(order % _FOLDS, np.intp), [told]


def _overlap(chances: Float64, labels: Bools) -> str:
    if chances[labels].min() > chances[~labels].max():
        return (
            "the classes are separable: no picture is on the wrong side, so the rates are known "
            "by their upper bounds only"
        )
    inside = (chances >= chances[labels].min()) & (chances <= chances[~labels].max())
    return f"the classes overlap: {inside.mean():.0%} of the pictures lie where both occur"


def _features(
    names: list[str], x: Float64, mean: Float64, sd: Float64, weights: Float64
) -> tuple[Feature, ...]:
    return tuple(
        Feature(
            name, "metric" if find("metric", name.split()[0]) else "gauge", float(mean[k]),
            float(sd[k]), float(weights[k]), float(x[:, k].min()), float(x[:, k].max()),
        )
        for k, name in enumerate(names)
    )  # fmt: skip


def _facts(
    count: int, groups: Sequence[str], results: Mapping[str, Share], frames: Sequence[str]
) -> dict[str, Any]:
    return {
        "pictures": count,
        "references": len(set(groups)),
        "frames": sorted(set(frames)),
        "cross_validated": {name: list(found) for name, found in results.items()},
    }


def _correlation(one: Float64, two: Float64, units: Indices) -> Share:
    """Correlation; its interval is that of the jackknife over references on Fisher's z."""

    def of(kept: Bools) -> float:
        if one[kept].std() == 0 or two[kept].std() == 0:
            return 0.0
        return float(np.corrcoef(one[kept], two[kept])[0, 1])

    r = of(np.ones(one.size, bool))
    z = math.atanh(min(max(r, -1 + 1e-12), 1 - 1e-12))
    reach = jackknife_reach(of, units) / max(1 - r * r, 1e-12)
    return Share(r, math.tanh(z - reach), math.tanh(z + reach))


def _rmse(errors: Float64, units: Indices) -> Share:
    """Root mean square; its interval is that of the jackknife over references on the logarithm."""

    def of(kept: Bools) -> float:
        return math.sqrt(float((errors[kept] ** 2).mean())) if kept.any() else math.nan

    rms = of(np.ones(errors.size, bool))
    reach = min(jackknife_reach(of, units) / max(rms, 1e-300), _MOST_LOG)
    return Share(rms, rms * math.exp(-reach), rms * math.exp(reach))
