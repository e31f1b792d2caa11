"""Checks of intervals, rates and gates."""

from __future__ import annotations

import math

import numpy as np

from magnetite.core.analysis.statistics import nested_interval
from magnetite.core.curves.comparison import bd_rate
from magnetite.core.gate.rates import area, most_accepted, share
from magnetite.selftest.checks import Value, check


@check("half-width of the interval of 1 to 5", tolerance=1e-6,
       source="t(0.975, 4) √(2.5 / 5), t = 2.776445, Student 1908")  # fmt: skip
def _student() -> Value:
    found = nested_interval([[float(value)] for value in range(1, 6)])
    return Value(2.776445105 * math.sqrt(0.5), (found.high - found.low) / 2)


@check("upper bound of 0 of 30", tolerance=1e-9,
       source="1 - 0.025^(1/30), Clopper and Pearson 1934")  # fmt: skip
def _clopper() -> Value:
    return Value(1 - 0.025 ** (1 / 30), share(0, 30).high)


@check("promise of 45 references without a false accept", tolerance=1e-9,
       source="1 - 0.1^(1/45), 90 % confidence")  # fmt: skip
def _promise() -> Value:
    return Value(1 - 0.1 ** (1 / 45), most_accepted(np.zeros(45, bool), np.arange(45), 0.9))


@check("area under the ROC curve of 1, 2, 3 against 0, 2", tolerance=1e-12,
       source="4.5 of 6 pairs in order, a tie counts half")  # fmt: skip
def _area() -> Value:
    values = np.array([1.0, 2.0, 3.0, 0.0, 2.0])
    accepted = np.array([True, True, True, False, False])
    return Value(4.5 / 6, area(values, accepted, np.arange(5)).share)


@check("BD-rate of 20 % less at every quality", tolerance=1e-9, unit="share",
       source="Bjøntegaard 2001: a constant shift of the log rate")  # fmt: skip
def _bd_rate() -> Value:
    curve = [(0.25, 30.0), (0.5, 33.0), (1.0, 36.5), (2.0, 41.0)]
    return Value(-0.2, bd_rate(curve, [(0.8 * rate, quality) for rate, quality in curve]))
