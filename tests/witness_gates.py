"""A second computation of gates, from the published definitions alone; nothing of `core.gate`."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from scipy.optimize import minimize
from scipy.special import expit, logit
from scipy.stats import beta
from scipy.stats import t as student

Interval = tuple[float, float, float]


def clopper_pearson(hits: float, count: float) -> Interval:
    """The interval by its beta quantiles; effective numbers need not be whole."""
    low = beta.ppf(0.025, hits, count - hits + 1) if hits > 0 else 0.0
    high = beta.ppf(0.975, hits + 1, count - hits) if hits < count else 1.0
    return hits / count, float(low), float(high)


def korn_graubard(flags: list[bool], groups: list[str]) -> Interval:
    """Clopper's and Pearson's interval of the effective number of pictures."""
    names = sorted(set(groups))
    n, g, p = len(flags), len(names), sum(flags) / len(flags)
    if p in (0, 1) or g == 1:
        return p, *clopper_pearson(p * g, g)[1:]
    residuals = [
        sum(flag - p for flag, own in zip(flags, groups, strict=True) if own == name)
        for name in names
    ]
    variance = g / (g - 1) * sum(r**2 for r in residuals) / n**2
    effective = p * (1 - p) / variance if variance else n
    effective *= (student.ppf(0.975, n - 1) / student.ppf(0.975, g - 1)) ** 2 if variance else 1
    return clopper_pearson(p * min(effective, n), min(effective, n))


def ordered(values: list[float], accepted: list[bool]) -> float:
    """Share of pairs of an accepted and a rejected picture in order, ties half."""
    good = [v for v, ok in zip(values, accepted, strict=True) if ok]
    bad = [v for v, ok in zip(values, accepted, strict=True) if not ok]
    if not good or not bad:
        return math.nan
    found = sum(1.0 if g > b else 0.5 if g == b else 0.0 for g in good for b in bad)
    return found / (len(good) * len(bad))


def area(values: list[float], accepted: list[bool], groups: list[str]) -> Interval:
    """The jackknife over references, carried to the logit, with Student's quantile."""
    a = ordered(values, accepted)
    classes = [{g for g, ok in zip(groups, accepted, strict=True) if ok is own}
               for own in (True, False)]  # fmt: skip
    smaller = min(map(len, classes))
    if a in (0.0, 1.0):
        return a, *clopper_pearson(a * smaller, smaller)[1:]
    areas = []
    for name in sorted(set(groups)):
        kept = [k for k, group in enumerate(groups) if group != name]
        own = ordered([values[k] for k in kept], [accepted[k] for k in kept])
        if not math.isnan(own):
            areas.append(own)
    count = len(areas)
    if count < 2:
        return a, 0.0, 1.0
    spread = sum((x - sum(areas) / count) ** 2 for x in areas)
    reach = student.ppf(0.975, count - 1) * math.sqrt((count - 1) / count * spread) / (a * (1 - a))
    if reach == 0:
        return a, *clopper_pearson(a * smaller, smaller)[1:]
    return a, float(expit(logit(a) - reach)), float(expit(logit(a) + reach))


def bound(flags: list[bool], groups: list[str], confidence: float) -> float:
    """Upper bound of the mean share per reference: binomial, or by betting where shares vary.

    A gambler stakes on a mean below `mu` before each share, in the order of the names; `mu` is
    refuted when the capital has reached 1 / (1 - confidence) once.
    """
    names = sorted(set(groups))
    own = [[f for f, g in zip(flags, groups, strict=True) if g == name] for name in names]
    n = len(names)
    if all(len(x) == 1 for x in own):
        hits = sum(flags)
        return float(beta.ppf(confidence, hits + 1, n - hits)) if hits < n else 1.0
    shares = [sum(x) / len(x) for x in own]

    def refuted(mu: float) -> bool:
        capital, total, squares, seen = 1.0, 0.5, 0.25, 1
        for x in shares:
            stake = math.sqrt(2 * math.log(1 / (1 - confidence)) / (n * squares / seen))
            capital *= 1 + min(stake, 0.75 / (1 - mu)) * (mu - x)
            if capital >= 1 / (1 - confidence):
                return True
            seen += 1
            total += x
            squares += (x - total / seen) ** 2
        return False

    low, high = sum(shares) / n, 1 - 1e-9
    if not refuted(high):
        return 1.0
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (low, middle) if refuted(middle) else (middle, high)
    return high


def lowest_cut(
    values: list[float], accepted: list[bool], groups: list[str], most: float, confidence: float
) -> float:
    """From the lowest cut without a false accept downwards, as long as the bound allows."""
    seen = sorted(set(values))
    cuts = [math.nextafter(seen[0], -math.inf), *((low + high) / 2 for low, high in pairwise(seen)),
            math.nextafter(seen[-1], math.inf)]  # fmt: skip
    bad = [(v, g) for v, g, ok in zip(values, groups, accepted, strict=True) if not ok]
    clean = [cut for cut in cuts if all(v < cut for v, _ in bad)]
    chosen = clean[0]
    for cut in [cut for cut in reversed(cuts) if cut <= chosen]:
        if bound([v >= cut for v, _ in bad], [g for _, g in bad], confidence) > most:
            break
        chosen = cut
    return chosen


@dataclass
class Single:
    """A gate of one figure."""

    accepts: str
    area: Interval
    cut: float
    false_accepts: float
    false_rejects: float


def single(
    values: list[float], accepted: list[bool], groups: list[str], most: float, confidence: float
) -> Single:
    sign = 1 if ordered(values, accepted) >= 0.5 else -1
    turned = [sign * v for v in values]
    cut = lowest_cut(turned, accepted, groups, most, confidence)
    bad = [v for v, ok in zip(turned, accepted, strict=True) if not ok]
    good = [v for v, ok in zip(turned, accepted, strict=True) if ok]
    return Single(
        "higher" if sign > 0 else "lower", area(turned, accepted, groups), sign * cut,
        sum(v >= cut for v in bad) / len(bad), sum(v < cut for v in good) / len(good),
    )  # fmt: skip


def logistic(x: np.ndarray, labels: np.ndarray) -> tuple[np.ndarray, float]:
    """Weights and intercept of least log loss plus half the sum of squared weights."""
    signs = np.where(labels, 1.0, -1.0)

    def loss(parameters: np.ndarray) -> float:
        margin = signs * (x @ parameters[1:] + parameters[0])
        return float(np.logaddexp(0, -margin).sum() + 0.5 * (parameters[1:] ** 2).sum())

    found = minimize(loss, np.zeros(x.shape[1] + 1), method="BFGS", options={"gtol": 1e-7})
    return found.x[1:], float(found.x[0])


@dataclass
class Rule:
    """A rule of several figures, and its chances on references that it had not seen."""

    weights: np.ndarray
    intercept: float
    mean: np.ndarray
    sd: np.ndarray
    chances: list[float]

    def chance(self, figures: np.ndarray) -> float:
        return 1 / (1 + math.exp(-float((figures - self.mean) / self.sd @ self.weights)
                                 - self.intercept))  # fmt: skip


def rule(x: np.ndarray, accepted: list[bool], groups: list[str]) -> Rule:
    """All pictures of a reference are in one of at most five folds, by the order of the names."""
    labels = np.array(accepted)
    mean, sd = x.mean(axis=0), np.sqrt(((x - x.mean(axis=0)) ** 2).mean(axis=0))
    scaled = (x - mean) / sd
    names = sorted(set(groups))
    fold = np.array([names.index(group) % min(5, len(names)) for group in groups])
    chances = np.empty(len(labels))
    for number in set(fold.tolist()):
        held = fold == number
        weights, intercept = logistic(scaled[~held], labels[~held])
        chances[held] = 1 / (1 + np.exp(-(scaled[held] @ weights + intercept)))
    weights, intercept = logistic(scaled, labels)
    return Rule(weights, intercept, mean, sd, chances.tolist())
