"""Fit a gate to labelled pictures: thresholds of single figures, and a rule of several."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.analysis.statistics import ranks
from magnetite.core.arrays import Bools, Float64, Indices
from magnetite.core.errors import InputError
from magnetite.core.extras import require
from magnetite.core.gate.gate import Feature, Gate
from magnetite.core.gate.rates import Share, area, share, threshold
from magnetite.core.methods.catalogue import find

#: Fewest pictures of a class, and folds of the cross-validation at most.
LEAST, _FOLDS = 5, 5
#: Random draws of references for the interval of an rmse.
_DRAWS = 500


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


@dataclass(frozen=True)
class Fitted:
    """A gate, how single figures would do, and what its user must know."""

    gate: Gate
    singles: tuple[Single, ...]
    #: Of the rule, on references that it had not seen.
    results: dict[str, Share]
    remarks: tuple[str, ...]


def fit_classes(
    figures: Mapping[str, Sequence[float]],
    accepted: Sequence[bool],
    groups: Sequence[str],
    version: str,
    false_accepts: float = 0.05,
    pictures: Sequence[str] = (),
    frames: Sequence[str] = (),
) -> Fitted:
    """Fit a gate to accepted and rejected pictures.

    The rule is logistic regression on standardised figures, regularised by the sum of squared
    weights. Its chances are cross-validated with all pictures of a reference in one fold, and the
    threshold is the one that accepts at most a share of the rejected pictures that way.

    Parameters
    ----------
    figures : mapping of name to values, one for each picture
    accepted : sequence of bool
    groups : sequence of str
        The reference that each picture comes from.
    version : str
        Of the program that measured the figures.
    false_accepts : float
        Largest share of rejected pictures that may be accepted, 0 to 1.
    pictures : sequence of str, optional
        Names of the pictures, for remarks.
    frames : sequence of str, optional
        Size, colour and depth of each picture in words; the gate keeps them.

    Raises
    ------
    InputError
        If a class has too few pictures, or no figure is usable.
    """
    require("sklearn", "gates", "fitting a gate")
    from sklearn.linear_model import LogisticRegression

    names, x, held, remarks = _usable(figures, pictures)
    labels = np.asarray(accepted, bool)[held]
    groups = [group for group, kept in zip(groups, held, strict=True) if kept]
    for count, word in ((int(labels.sum()), "accepted"), (int((~labels).sum()), "rejected")):
        if count == 0:
            raise InputError(f"no picture is labelled {word}: a gate needs both classes")
        if count < LEAST:
            raise InputError(f"{count} pictures are labelled {word}; a gate needs {LEAST} or more")
    singles = [_single(name, x[:, k], labels, false_accepts) for k, name in enumerate(names)]
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
    cut = min(max(threshold(chances, labels, false_accepts), 1e-9), 1 - 1e-9)
    model = fitted(np.ones(labels.size, bool))
    results = {
        "area": area(chances, labels),
        "false accepts": share(int((chances[~labels] >= cut).sum()), int((~labels).sum())),
        "false rejects": share(int((chances[labels] < cut).sum()), int(labels.sum())),
    }
    remarks.append(_overlap(chances, labels))
    gate = Gate(
        _features(names, x, mean, sd, model.coef_[0]), float(model.intercept_[0]), cut, False,
        _facts(labels.size, groups, results, frames) | {"accepted": int(labels.sum())}, version,
    )  # fmt: skip
    return Fitted(gate, tuple(sorted(singles, key=lambda s: -s.area)), results, tuple(remarks))


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
        raise InputError(f"{wanted.size} pictures have scores; a gate needs {2 * LEAST} or more")
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
    results = {
        "Pearson": _correlation(predicted, wanted),
        "Spearman": _correlation(ranks(predicted), ranks(wanted)),
        "rmse": _rmse(predicted - wanted),
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


def _single(name: str, values: Float64, labels: Bools, false_accepts: float) -> Single:
    """One figure with the threshold for the share of false accepts, turned so that high is good."""
    own = area(values, labels)
    sign = 1.0 if own.share >= 0.5 else -1.0
    turned = sign * values
    own = area(turned, labels)
    cut = threshold(turned, labels, false_accepts)
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


def _correlation(one: Float64, two: Float64) -> Share:
    """Correlation with the interval of Fisher's z."""
    from magnetite.core.calibrate.fitting import NORMAL_95

    r = float(np.corrcoef(one, two)[0, 1]) if one.std() > 0 else 0.0
    z = math.atanh(min(max(r, -1 + 1e-12), 1 - 1e-12))
    reach = NORMAL_95 / math.sqrt(max(1, one.size - 3))
    return Share(r, math.tanh(z - reach), math.tanh(z + reach))


def _rmse(errors: Float64) -> Share:
    """Root mean square with the interval of its bootstrap."""
    rng = np.random.default_rng(0)
    drawn = rng.integers(0, errors.size, (_DRAWS, errors.size))
    means = np.sqrt((errors[drawn] ** 2).mean(axis=1))
    low, high = np.percentile(means, [2.5, 97.5])
    return Share(float(np.sqrt((errors**2).mean())), float(low), float(high))
