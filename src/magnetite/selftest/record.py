"""The record of a self-test: versions, machine, digest of the code, and every check."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from magnetite.experiment.provenance import code_digest, machine, now
from magnetite.selftest.checks import Result

TITLES = ("check", "expected", "got", "tolerance", "unit", "verdict", "source")


def facts() -> dict[str, str]:
    """Program, versions, machine, time and digest of the installed code."""
    return machine() | {"time": now(), "code": code_digest()}


def as_record(found: Sequence[Result], about: dict[str, str]) -> dict[str, Any]:
    """The self-test as plain values for JSON."""
    return {
        "kind": "magnetite self-test", "about": about, "passed": all(one.passed for one in found),
        "checks": [
            one._asdict() | {"expected": _number(one.expected), "got": _number(one.got)}
            for one in found
        ],
    }  # fmt: skip


def _number(value: float) -> float | None:
    """The value; None where a check raised an error, as JSON has no NaN."""
    return value if math.isfinite(value) else None


def rows(found: Sequence[Result]) -> list[list[str]]:
    """Cells of the table, without the time of each check."""
    return [
        [one.name, f"{one.expected:.7g}", f"{one.got:.7g}", f"{one.tolerance:g}", one.unit,
         one.verdict, one.source]
        for one in found
    ]  # fmt: skip


def summary(found: Sequence[Result]) -> str:
    """How many checks passed, in one line."""
    passed = sum(one.passed for one in found)
    seconds = sum(one.seconds for one in found)
    if passed == len(found):
        return f"all {passed} checks passed, in {seconds:.1f} s"
    return f"{len(found) - passed} of {len(found)} checks FAILED, in {seconds:.1f} s"


def as_text(found: Sequence[Result], about: dict[str, str]) -> str:
    """The record for people: facts, table, summary."""
    table = [list(TITLES), *rows(found)]
    widths = [max(len(row[k]) for row in table) for k in range(len(TITLES))]
    lines = ["  ".join(cell.ljust(w) for cell, w in zip(row, widths, strict=True)).rstrip()
             for row in table]  # fmt: skip
    head = [f"{name:<{max(map(len, about))}}  {value}" for name, value in about.items()]
    return "\n".join(["Magnetite self-test", "", *head, "", *lines, "", summary(found), ""])
