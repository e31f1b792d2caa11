"""The examples in the docstrings of the library's functions do what they show."""

from __future__ import annotations

import doctest
import inspect
from pathlib import Path

import pytest

import magnetite

FUNCTIONS = {
    name: one for name in magnetite.__all__ if inspect.isfunction(one := getattr(magnetite, name))
} | {"gate.fit": magnetite.gate.fit}


@pytest.mark.parametrize(
    "name", [pytest.param(n, marks=[pytest.mark.long] * (n == "chart")) for n in sorted(FUNCTIONS)]
)
def test_the_example_of_a_function(
    name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    text = inspect.getdoc(FUNCTIONS[name]) or ""
    example = doctest.DocTestParser().get_doctest(text, {}, name, None, None)
    told: list[str] = []
    result = doctest.DocTestRunner().run(example, out=told.append)
    assert result.attempted >= 2, "an example shows a call and its outcome"
    assert result.failed == 0, "".join(told)
