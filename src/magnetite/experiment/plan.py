"""Plans: the definition of an experiment, checked before it runs."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable
from functools import lru_cache, partial
from typing import Annotated, Any, Literal

from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    PlainValidator,
    Strict,
    field_validator,
    model_validator,
)
from pydantic_core import PydanticCustomError

from magnetite.core.chain.notation import parse_chain, parse_step, parse_sweep
from magnetite.core.chain.step import Chain, Step
from magnetite.core.errors import InputError, MagnetiteError
from magnetite.core.methods.caching import follows_declarations
from magnetite.core.operations.degrade import KINDS as DEGRADING
from magnetite.core.operations.selection import NONE, Selection, selected

#: Stands for a degradation or treatment that changes nothing.
NOTHING = "nothing"
_KINDS: tuple[Literal["degradations"], Literal["treatments"]] = ("degradations", "treatments")
_KEEP = re.compile(r"none|all|(?:worst|best|sample) [1-9]\d{0,5}")


class PlanError(InputError):
    """The mistakes of a plan, one line for each."""

    def __init__(self, lines: list[str]) -> None:
        super().__init__("; ".join(lines))
        self.lines = lines


class _Table(BaseModel):
    """A table of the plan: unknown keys are mistakes."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


def _read_by(read: Callable[[str], Any]) -> PlainValidator:
    """A value that is read from its text."""

    def validate(text: Any) -> Any:
        if not isinstance(text, str):
            raise PydanticCustomError("string_type", "text")
        return read(text)

    return PlainValidator(validate)


def _gauges(text: str) -> Selection:
    return selected(text, "gauge") if text else NONE


class References(_Table):
    """Which clean pictures, and how they are taken."""

    #: Paths and patterns, relative to the plan.
    files: list[str] = Field(min_length=1)
    #: Conversions of each picture before anything else is done with it.
    convert: Annotated[Chain | None, _read_by(lambda text: parse_chain(text, "conversion"))] = None


class Scores(_Table):
    """Metrics that every picture is scored by."""

    metrics: Annotated[Selection, _read_by(partial(selected, kind="metric"))] = Selection.named(
        "metric", "psnr", "ssim"
    )
    gauges: Annotated[Selection, _read_by(_gauges)] = NONE


#: A pair of names; TOML has lists alone.
Pair = Annotated[tuple[str, str], Strict(False)]


class Pairs(_Table):
    """Which degradations and treatments go together: all that are not excluded."""

    only: list[Pair] = []
    exclude: list[Pair] = []


class Keep(_Table):
    """Which treated pictures are kept in the run's folder."""

    pictures: str = "none"
    #: The metric that says which are best and worst.
    by: Annotated[Step, _read_by(lambda text: parse_step(text, "metric"))] = Step("metric", "psnr")

    @field_validator("pictures")
    @classmethod
    def _is_rule(cls, text: str) -> str:
        if not _KEEP.fullmatch(text):
            raise ValueError(
                f"{text!r} is none of: none, all, worst N, best N, sample N (N from 1)"
            )
        return text


#: Chains of degradations or treatments by name; None is nothing.
Chains = dict[str, list[Chain | None]]


def _table_of_chains(*kinds: str, known: bool = False) -> PlainValidator:
    """A table of chains that are read from their texts; every mistake in it is said at once."""

    def validate(table: Any) -> Chains:
        if not isinstance(table, dict):
            raise ValueError('a table of NAME = "chain"')
        chains: Chains = {}
        problems = []
        for name, text in table.items():
            try:
                chains[name] = _chains(name, text, kinds, known)
            except MagnetiteError as error:
                problems.append(f"{name}\n{error}")
        if problems:
            raise ValueError("\n\n".join(problems))
        return chains

    return PlainValidator(validate)


def _chains(name: str, text: Any, kinds: tuple[str, ...], known: bool) -> list[Chain | None]:
    if not isinstance(text, str):
        raise InputError(f"{text!r} is not a chain: write it in quotes")
    if text.strip() == NOTHING:
        return [None]
    if name == NOTHING:
        raise InputError(f"{text!r} changes the picture: give it another name")
    return list(parse_sweep(text, *kinds, known=known))


class Plan(_Table):
    """A whole plan."""

    title: str = ""
    #: Folder that all names are relative to, itself relative to the plan's.
    base: str = "."
    seed: int = Field(default=0, ge=0, lt=2**63)
    repeats: int = Field(default=1, ge=1, le=100_000)
    references: References
    #: All chains by name; None is nothing.
    degradations: Annotated[Chains, _table_of_chains(*DEGRADING)] = {NOTHING: [None]}
    treatments: Annotated[Chains, _table_of_chains("restoration", "codec", known=True)] = {
        NOTHING: [None]
    }
    pairs: Pairs = Pairs()
    scores: Scores = Scores()
    keep: Keep = Keep()

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
                            f"pairs.{kind}\n{name!r} is not declared{near(name, table)}"
                        )
        return self

    @model_validator(mode="after")
    def _something_runs(self) -> Plan:
        if not any(self.together(d, t) for d in self.degradations for t in self.treatments):
            raise ValueError(
                "pairs\nno degradation is paired with a treatment: the plan has no rows"
            )
        return self

    @model_validator(mode="after")
    def _kept_by_a_score(self) -> Plan:
        """The metric that says which pictures are kept must be one of the scores."""
        rule = self.keep.pictures.split()[0]
        if rule in ("worst", "best") and not self.scores.metrics.every:
            scored = self.scores.metrics.labels
            if str(self.keep.by) not in scored:
                raise ValueError(
                    f"keep.by\n{str(self.keep.by)!r} is not among the scores: add it to "
                    f"scores.metrics, or keep by {scored[0]}"
                )
        return self

    @model_validator(mode="after")
    def _known_noise_is_known(self) -> Plan:
        """A treatment with sd=known needs degradations that end with noise of a stated sd."""
        for name, chains in self.chains("treatments").items():
            if not any(chain is not None and chain.takes_known for chain in chains):
                continue
            for degradation, options in self.chains("degradations").items():
                silent = next((c for c in options if not _states_sd(c)), None) if (
                    self.together(degradation, name)) else None  # fmt: skip
                if silent is not None or (self.together(degradation, name) and None in options):
                    raise ValueError(
                        f"treatments.{name}\nsd=known: {degradation!r} does not end with noise of "
                        "a stated sd, drawn by one step; "
                        f"exclude the pair [{degradation!r}, {name!r}], or leave sd out"
                    )
        return self

    def chains(self, kind: Literal["degradations", "treatments"]) -> Chains:
        """The chains of one of the tables."""
        chains: Chains = getattr(self, kind)
        return chains

    def together(self, degradation: str, treatment: str) -> bool:
        """Whether a degradation and a treatment, by name, go together."""
        pair = (degradation, treatment)
        allowed = not self.pairs.only or pair in self.pairs.only
        return allowed and pair not in self.pairs.exclude


@follows_declarations
@lru_cache(maxsize=256)
def _states_sd(chain: Chain | None) -> bool:
    """Whether the certificate of a degradation states the sd of its noise, tried on flat gray."""
    if chain is None:
        return False
    import numpy as np

    from magnetite.core.operations.degrade import degrade
    from magnetite.core.picture import as_picture

    try:
        made = degrade(as_picture(np.full((32, 32), 128, np.uint8)), chain)
    except (MagnetiteError, OSError):  # figures that do not suit gray or so small a picture
        return True
    return made.certificate.noise_sd is not None


def near(word: str, known: Any) -> str:
    """A hint at the known words: the nearest, or all."""
    found = difflib.get_close_matches(word, list(known), n=1)
    return f"; did you mean {found[0]}?" if found else f"; known: {', '.join(known)}"
