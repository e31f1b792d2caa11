"""A second computation of gates, from the published definitions alone; nothing of `core.gate`."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from scipy.optimize import minimize
from scipy.stats import binomtest

Interval = tuple[float, float, float]


def clopper_pearson(hits: int, count: int) -> Interval:
    found = binomtest(hits, count).proportion_ci(0.95, method="exact")
    return hits / count, float(found.low), float(found.high)


def area(values: list[float], accepted: list[bool]) -> Interval:
    """Pairs of an accepted and a rejected picture in order, ties half; Hanley and McNeil (1982)."""
    good = [v for v, ok in zip(values, accepted, strict=True) if ok]
    bad = [v for v, ok in zip(values, accepted, strict=True) if not ok]
    ordered = sum(1.0 if g > b else 0.5 if g == b else 0.0 for g in good for b in bad)
    a = ordered / (len(good) * len(bad))
    if a in (0.0, 1.0):
        count = min(len(good), len(bad))
        return a, *clopper_pearson(count if a else 0, count)[1:]
    q1, q2 = a / (2 - a), 2 * a**2 / (1 + a)
    variance = a * (1 - a) + (len(good) - 1) * (q1 - a**2) + (len(bad) - 1) * (q2 - a**2)
    reach = 1.959963984540054 * math.sqrt(variance / (len(good) * len(bad)))
    return a, max(0.0, a - reach), min(1.0, a + reach)


def lowest_cut(values: list[float], accepted: list[bool], most: float) -> float:
    """Lowest midpoint of two values seen that at most a share of the rejected reaches.

    Just below all values where any share is allowed, just above them where no midpoint will do.
    """
    seen = sorted(set(values))
    bad = [v for v, ok in zip(values, accepted, strict=True) if not ok]
    middles = [(low + high) / 2 for low, high in pairwise(seen)]
    for cut in [math.nextafter(seen[0], -math.inf), *middles]:
        if sum(v >= cut for v in bad) <= most * len(bad) + 1e-12:
            return cut
    return math.nextafter(seen[-1], math.inf)


@dataclass
class Single:
    """A gate of one figure."""

    accepts: str
    area: Interval
    cut: float
    false_accepts: float
    false_rejects: float


def single(values: list[float], accepted: list[bool], most: float) -> Single:
    sign = 1 if area(values, accepted)[0] >= 0.5 else -1
    turned = [sign * v for v in values]
    cut = lowest_cut(turned, accepted, most)
    bad = [v for v, ok in zip(turned, accepted, strict=True) if not ok]
    good = [v for v, ok in zip(turned, accepted, strict=True) if ok]
    return Single(
        "higher" if sign > 0 else "lower", area(turned, accepted), sign * cut,
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
