"""Plans read from TOML files: every mistake by file, line and key; and their kept copies."""

from __future__ import annotations

import json
import os
import re
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from magnetite.experiment.plan import Plan, PlanError, near
from magnetite.experiment.plan_files import file_mistakes
from magnetite.files.opening import read_text


def read_plan(path: Path) -> Plan:
    """Read a plan and check all of it.

    Raises
    ------
    FileError
        If the file cannot be read.
    PlanError
        With every mistake, each with file, line and key.
    """
    text = read_text(path)
    try:
        content = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise PlanError([f"{path}: is not TOML ({error})"]) from None
    try:
        plan = Plan.model_validate(content)
    except ValidationError as error:
        found = [one for problem in error.errors() for one in _told(problem)]
        lines = [f"{path}:{_line(text, key)}: {'.'.join(key)}: {words}" for key, words in found]
        raise PlanError(lines) from None
    mistakes = [
        f"{path}:{_line(text, key)}: {'.'.join(key)}: {words}"
        for key, words in file_mistakes(plan, path.parent / plan.base)
    ]
    if mistakes:
        raise PlanError(mistakes)
    return plan


def kept_text(plan: Path, base: str, folder: Path) -> str:
    """A plan as its run's folder keeps it: its names still found from there.

    The key `base` leads from the folder to where the plan's names are relative to.

    Raises
    ------
    PlanError
        If `base` stands where it cannot be replaced.
    """
    text, start = read_text(plan), (plan.parent / base).resolve()
    way = Path(os.path.relpath(start, folder.resolve())).as_posix()
    line = f"base = {json.dumps(way)}     # all names are relative to this folder"
    head, *tables = re.split(r"(?m)^(?=\s*\[)", text, maxsplit=1)
    replaced, stated = re.subn(r"(?m)^\s*base\s*=.*$", lambda _: line, head, count=1)
    kept = "".join((replaced if stated else f"{line}\n{head}", *tables))
    try:
        sound = tomllib.loads(kept) == tomllib.loads(text) | {"base": way}
    except tomllib.TOMLDecodeError:
        sound = False
    if not sound:
        words = f"write it on a line of its own before all others: base = {json.dumps(base)}"
        raise PlanError([f"{plan}: base: {words}"])
    return kept


def _told(problem: Any) -> Iterator[tuple[tuple[str, ...], str]]:
    """Key and words of a mistake; several where one value holds several."""
    key = tuple(map(str, problem["loc"]))
    if problem["type"] == "extra_forbidden":
        table = _table_of(key[:-1])
        yield key, f"is not a key of a plan{near(key[-1], table)}"
        return
    words = _plain(problem)
    for part in words.split("\n\n"):
        name, newline, rest = part.partition("\n")
        if not newline:
            yield key, part[0].lower() + part[1:]
        elif key:
            yield (*key, name), rest
        else:
            yield tuple(name.split(".")), rest


def _plain(problem: Any) -> str:
    """A mistake in the plan's own words, whatever found it."""
    kind, bounds = problem["type"], problem.get("ctx", {})
    if kind == "value_error":
        return str(problem["msg"]).removeprefix("Value error, ")
    if kind == "missing":
        return "is missing"
    for mark, words in _WANTED.items():
        if kind.startswith(mark):
            return f"is {words}, not {_shown(problem['input'])}"
    if kind in _BOUNDS:
        return f"is {_BOUNDS[kind].format(**bounds)}, not {_shown(problem['input'])}"
    if kind == "too_short":
        return "names nothing"
    return f"cannot be {_shown(problem['input'])}"


def _shown(value: Any) -> str:
    text = repr(value)
    return text if len(text) <= 60 else f"{text[:59]}…"


#: Expected type of a value, by the prefix of the error's name.
_WANTED = {
    "list_": 'a list, as in ["trays/*.png"]', "tuple_": 'a pair, as in ["noisy", "coded"]',
    "string_": "a text in quotes", "int_": "a whole number", "bool_": "true or false",
    "dict_": 'a table of NAME = "chain"', "model_": "a table of keys",
    "missing_argument": "a pair of names", "too_long": "a pair of names",
}  # fmt: skip


_BOUNDS = {
    "greater_than_equal": "at least {ge}", "less_than_equal": "at most {le}",
    "less_than": "below {lt}",
}  # fmt: skip


def _table_of(key: tuple[str, ...]) -> list[str]:
    """Keys of the table at a position of the plan."""
    model: Any = Plan
    for name in key:
        model = model.model_fields[name].annotation
    return list(model.model_fields)


def _line(text: str, key: tuple[str, ...]) -> int:
    """Number of the line of a key, as far as a search for its words finds it."""
    lines = text.splitlines()
    start = 0
    for depth, name in enumerate(key):
        header = re.compile(rf"\s*\[\s*{re.escape('.'.join(key[: depth + 1]))}\s*\]")
        parents = re.escape("".join(f"{parent}." for parent in key[:depth]))
        entry = re.compile(rf"""\s*(?:{parents})?["']?{re.escape(name)}["']?\s*[.=]""")
        for number in range(start, len(lines)):
            if header.match(lines[number]) or entry.match(lines[number]):
                start = number
                break
    return start + 1
