"""Plans: what an experiment is to do, read from TOML and checked as a whole before it runs."""

from __future__ import annotations

import difflib
import glob
import re
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from magnetite.core.chain.notation import parse_chain, parse_sweep
from magnetite.core.chain.step import Chain
from magnetite.core.errors import FileError, InputError, MagnetiteError
from magnetite.core.verbs.figures import parse_figures
from magnetite.files.reading import read_text

#: Stands for a degradation or treatment that changes nothing.
NOTHING = "nothing"
_KINDS: tuple[Literal["degradations"], Literal["treatments"]] = ("degradations", "treatments")
_KEEP = re.compile(r"none|all|(?:worst|best|sample) \d{1,6}")


class PlanError(InputError):
    """What is wrong with a plan: one line for each mistake."""

    def __init__(self, lines: list[str]) -> None:
        super().__init__("; ".join(lines))
        self.lines = lines


class _Table(BaseModel):
    """A table of the plan: unknown keys are mistakes."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class References(_Table):
    """Which clean pictures, and how they are taken."""

    #: Paths and patterns, relative to the plan.
    files: list[str] = Field(min_length=1)
    #: Conversions of each picture before anything else is done with it.
    convert: str | None = None

    @field_validator("convert")
    @classmethod
    def _is_conversion(cls, text: str | None) -> str | None:
        return None if text is None else str(parse_chain(text, "conversion"))


class Scores(_Table):
    """What every picture is scored by."""

    metrics: str = "psnr,ssim"
    gauges: str = ""

    @field_validator("metrics", "gauges")
    @classmethod
    def _can_be_read(cls, text: str, info: Any) -> str:
        if text:
            parse_figures(text, info.field_name.removesuffix("s"))
        return text


class Pairs(_Table):
    """Which degradations and treatments go together: all that are not excluded."""

    only: list[tuple[str, str]] = []
    exclude: list[tuple[str, str]] = []


class Keep(_Table):
    """Which treated pictures are kept in the run's folder."""

    pictures: str = "none"
    #: The metric that says which are best and worst.
    by: str = "psnr"

    @field_validator("pictures")
    @classmethod
    def _is_rule(cls, text: str) -> str:
        if not _KEEP.fullmatch(text):
            raise ValueError(f"{text!r} is none of: none, all, worst N, best N, sample N")
        return text

    @field_validator("by")
    @classmethod
    def _is_metric(cls, text: str) -> str:
        parse_figures(text, "metric")
        return text


class Plan(_Table):
    """A whole plan."""

    title: str = ""
    seed: int = Field(default=0, ge=0)
    repeats: int = Field(default=1, ge=1, le=100_000)
    references: References
    degradations: dict[str, str] = {NOTHING: NOTHING}
    treatments: dict[str, str] = {NOTHING: NOTHING}
    pairs: Pairs = Pairs()
    scores: Scores = Scores()
    keep: Keep = Keep()

    @field_validator("degradations", "treatments", mode="before")
    @classmethod
    def _can_be_read(cls, table: Any, info: Any) -> Any:
        if not isinstance(table, dict):
            raise ValueError('a table of NAME = "chain"')
        problems = []
        for name, text in table.items():
            try:
                _chains(text, info.field_name)
            except MagnetiteError as error:
                problems.append(f"{name}\n{error}")
        if problems:
            raise ValueError("\n\n".join(problems))
        return table

    @model_validator(mode="after")
    def _chains_differ(self) -> Plan:
        """Refuse a chain that stands under two names: its rows would count twice."""
        for kind in _KINDS:
            known: dict[str, str] = {}
            for name, chains in self.chains(kind).items():
                for text in (NOTHING if chain is None else str(chain) for chain in chains):
                    if text in known:
                        raise ValueError(f"{kind}.{name}\n{text!r} is in {known[text]!r} already")
                    known[text] = name
        return self

    @model_validator(mode="after")
    def _pairs_exist(self) -> Plan:
        for kind, pairs in (("only", self.pairs.only), ("exclude", self.pairs.exclude)):
            for pair in pairs:
                for name, table in zip(pair, (self.degradations, self.treatments), strict=True):
                    if name not in table:
                        raise ValueError(
                            f"pairs.{kind}\n{name!r} is not declared{_near(name, table)}"
                        )
        return self

    def chains(self, kind: Literal["degradations", "treatments"]) -> dict[str, list[Chain | None]]:
        """All chains by name; None is nothing."""
        table: dict[str, str] = getattr(self, kind)
        return {name: _chains(text, kind) for name, text in table.items()}

    def together(self, degradation: str, treatment: str) -> bool:
        """Whether a degradation and a treatment, by name, go together."""
        pair = (degradation, treatment)
        allowed = not self.pairs.only or pair in self.pairs.only
        return allowed and pair not in self.pairs.exclude


def _chains(text: Any, kind: str) -> list[Chain | None]:
    if not isinstance(text, str):
        raise InputError(f"{text!r} is not a chain: write it in quotes")
    if text.strip() == NOTHING:
        return [None]
    kinds = ("degradation", "codec") if kind == "degradations" else ("restoration", "codec")
    return list(parse_sweep(text, *kinds, known=kind == "treatments"))


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
    if not reference_files(plan, path.parent):
        line = _line(text, ("references", "files"))
        raise PlanError([f"{path}:{line}: references.files: no picture is found"])
    return plan


def reference_files(plan: Plan, folder: Path) -> list[Path]:
    """The reference pictures that a plan names, each once, in the order of their patterns."""
    found: dict[Path, None] = {}
    for pattern in plan.references.files:
        whole = str(folder / pattern)
        names = sorted(glob.glob(whole, recursive=True)) if glob.has_magic(whole) else [whole]
        for path in map(Path, names):
            if path.is_file():
                found[path] = None
            elif not glob.has_magic(whole):
                raise FileError(f"{path}: no such file, named in references.files")
    return list(found)


def _told(problem: Any) -> Iterator[tuple[tuple[str, ...], str]]:
    """Key and words of a mistake; several where one value holds several."""
    key = tuple(map(str, problem["loc"]))
    if problem["type"] == "extra_forbidden":
        table = _table_of(key[:-1])
        yield key, f"is not a key of a plan{_near(key[-1], table)}"
        return
    words = str(problem["msg"]).removeprefix("Value error, ")
    for part in words.split("\n\n"):
        name, newline, rest = part.partition("\n")
        if not newline:
            yield key, part[0].lower() + part[1:]
        elif key:
            yield (*key, name), rest
        else:
            yield tuple(name.split(".")), rest


def _table_of(key: tuple[str, ...]) -> list[str]:
    """Keys of the table at a place of the plan."""
    model: Any = Plan
    for name in key:
        model = model.model_fields[name].annotation
    return list(model.model_fields)


def _near(word: str, known: Any) -> str:
    near = difflib.get_close_matches(word, list(known), n=1)
    return f"; did you mean {near[0]}?" if near else f"; known: {', '.join(known)}"


def _line(text: str, key: tuple[str, ...]) -> int:
    """Number of the line that a key stands in, as far as a search for its words tells."""
    lines = text.splitlines()
    start = 0
    for depth, name in enumerate(key):
        header = re.compile(rf"\s*\[\s*{re.escape('.'.join(key[: depth + 1]))}\s*\]")
        entry = re.compile(rf"""\s*["']?{re.escape(name)}["']?\s*=""")
        for number in range(start, len(lines)):
            if header.match(lines[number]) or entry.match(lines[number]):
                start = number
                break
    return start + 1
