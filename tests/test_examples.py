"""The examples in the docstrings of the library's functions do what they show."""

from __future__ import annotations

import doctest
import inspect
from pathlib import Path

import pytest

import magnetite

#: `gate` needs a fitted rule, and `Picture` is made by the others.
FUNCTIONS = sorted(
    name for name in magnetite.__all__
    if inspect.isfunction(getattr(magnetite, name)) and name != "gate"
)  # fmt: skip


@pytest.mark.parametrize("name", FUNCTIONS)
def test_the_example_of_a_function(
    name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    text = inspect.getdoc(getattr(magnetite, name)) or ""
    example = doctest.DocTestParser().get_doctest(text, {}, name, None, None)
    told: list[str] = []
    result = doctest.DocTestRunner().run(example, out=told.append)
    assert result.attempted >= 2, "an example shows a call and its outcome"
    assert result.failed == 0, "".join(told)
