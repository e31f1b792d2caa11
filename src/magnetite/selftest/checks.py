"""Declaration and run of the checks of the self-test."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from importlib import import_module
from typing import NamedTuple


class Value(NamedTuple):
    """A figure by its definition, and as this installation computes it."""

    expected: float
    got: float


@dataclass(frozen=True)
class Check:
    """One check: its function computes both figures."""

    name: str
    #: Largest difference, in the unit of the figure; 0 demands equality.
    tolerance: float
    source: str
    unit: str
    function: Callable[[], Value]


class Result(NamedTuple):
    """A row of the table."""

    name: str
    expected: float
    got: float
    tolerance: float
    unit: str
    #: `passed`, `failed`, or the error that the check raised.
    verdict: str
    source: str
    seconds: float

    @property
    def passed(self) -> bool:
        return self.verdict == "passed"


#: Modules of checks, in the order of the table.
_MODULES = ("scores", "methods", "statistics")
_checks: list[Check] = []


def check(
    name: str, *, tolerance: float, source: str, unit: str = ""
) -> Callable[[Callable[[], Value]], Callable[[], Value]]:
    """Declare a check.

    Parameters
    ----------
    name : str
    tolerance : float
        Largest difference of both figures, in their unit.
    source : str
        Closed form or publication of the expected figure.
    unit : str
    """

    def declare(function: Callable[[], Value]) -> Callable[[], Value]:
        _checks.append(Check(name, tolerance, source, unit, function))
        return function

    return declare


def all_checks() -> list[Check]:
    """All checks, in the order of the table."""
    for name in _MODULES:
        import_module(f"magnetite.selftest.{name}")
    return list(_checks)


def results() -> Iterator[Result]:
    """Carry out all checks, one after the other."""
    for one in all_checks():
        start = time.perf_counter()
        expected = got = math.nan
        try:
            expected, got = one.function()
            close = expected == got or abs(expected - got) <= one.tolerance
            verdict = "passed" if close else "failed"
        except Exception as error:  # the table names the error of any check, and goes on
            verdict = f"{type(error).__name__}: {error}".splitlines()[0]
        yield Result(
            one.name, float(expected), float(got), one.tolerance, one.unit, verdict, one.source,
            time.perf_counter() - start,
        )  # fmt: skip
