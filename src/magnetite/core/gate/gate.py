"""A gate: the data of its fit, its rule, and its verdict on a picture's figures."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import asdict, dataclass, fields
from typing import Any, Literal

from magnetite.core.chain.notation import parse_step
from magnetite.core.errors import ChainError, InputError
from magnetite.core.picture.matching import Framed

#: Figures further outside the range of the fit than this share of it are named.
_OUTSIDE = 0.1
KIND = "magnetite gate"


@dataclass(frozen=True)
class Feature:
    """One figure of the rule: its weight per standard deviation, and the values of its fit."""

    #: Canonical text of a metric or gauge.
    name: str
    kind: Literal["metric", "gauge"]
    mean: float
    sd: float
    weight: float
    low: float
    high: float


@dataclass(frozen=True)
class Verdict:
    """Verdict of a gate on one picture."""

    accepted: bool
    #: Chance of being accepted, or the predicted score of a regression.
    value: float
    threshold: float
    #: Contributions of the figures to the rule, the decisive one first.
    contributions: dict[str, float]
    #: Figures outside the range of the fit.
    outside: tuple[str, ...]
    #: Remarks, as on a picture of another kind than those of the fit.
    remarks: tuple[str, ...] = ()

    @property
    def decided(self) -> str:
        """The figure that spoke most strongly for the verdict."""
        return next(iter(self.contributions))

    @property
    def margin(self) -> float:
        """How far the value is above the threshold; below 0 where it is rejected."""
        return self.value - self.threshold


@dataclass(frozen=True)
class Gate:
    """A fitted rule: accept where the value is at least the threshold.

    The value is `1 / (1 + exp(-s))` for labels of two classes, `s` itself for scores, with
    `s = intercept + Σ weight (x - mean) / sd`.
    """

    features: tuple[Feature, ...]
    intercept: float
    threshold: float
    #: Whether the labels were scores.
    regression: bool
    #: Pictures, references, and how well the rule did on references that it had not seen.
    facts: dict[str, Any]
    #: Version of the program whose figures these are.
    version: str

    def judge(self, figures: Mapping[str, float]) -> Verdict:
        """The verdict on a picture's figures.

        Raises
        ------
        InputError
            If a figure is missing or infinite.
        """
        terms = {}
        outside = []
        for feature in self.features:
            value = figures.get(feature.name, math.nan)
            if not math.isfinite(value):
                raise InputError(f"the gate needs {feature.name}, and this picture has none")
            terms[feature.name] = feature.weight * (value - feature.mean) / feature.sd
            room = _OUTSIDE * (feature.high - feature.low)
            if not feature.low - room <= value <= feature.high + room:
                outside.append(feature.name)
        s = self.intercept + sum(terms.values())
        value = s if self.regression else 1 / (1 + math.exp(-min(max(s, -700), 700)))
        accepted = value >= self.threshold
        order = sorted(terms, key=lambda name: terms[name], reverse=accepted)
        ordered = {name: terms[name] for name in order}
        return Verdict(accepted, value, self.threshold, ordered, tuple(outside))

    def remarks_on(self, picture: Framed, version: str) -> tuple[str, ...]:
        """Sentences where program or picture are unlike those of the fit, as far as it says."""
        made = []
        if self.version != version:
            made.append(f"the gate was fitted with version {self.version}; this is {version}")
        known = self.facts.get("frames")
        described = picture.frame.describe()
        if isinstance(known, list) and known and described not in known:
            fitted = ", ".join(map(str, known[:3]))
            made.append(f"{picture.origin} is {described}; the gate was fitted on {fitted}")
        return tuple(made)

    def as_record(self) -> dict[str, Any]:
        """The gate as plain values for JSON."""
        return {"kind": KIND, "version": 1, "program": self.version} | {
            key: value for key, value in asdict(self).items() if key != "version"
        }

    @classmethod
    def of_record(cls, record: Mapping[str, Any]) -> Gate:
        """Read a record of `as_record`; `InputError` for anything else."""
        if record.get("kind") != KIND or record.get("version") != 1:
            raise InputError("not a gate of this program: fit one with gate fit")
        features = record.get("features")
        if not isinstance(features, list) or not features:
            raise InputError("the gate is damaged: it has no list of features")
        facts, regression = record.get("facts"), record.get("regression")
        if not isinstance(facts, dict) or not isinstance(regression, bool):
            raise InputError("the gate is damaged: facts or regression are of another kind")
        return cls(
            tuple(map(_feature, features)), _number(record, "intercept"),
            _number(record, "threshold"), regression, facts, str(record.get("program")),
        )  # fmt: skip


def _feature(entry: Any) -> Feature:
    """A feature as `as_record` wrote it, every value checked."""
    if not isinstance(entry, dict) or set(entry) != {f.name for f in fields(Feature)}:
        raise InputError("the gate is damaged: a feature does not have the keys of one")
    name, kind = entry["name"], entry["kind"]
    if kind not in ("metric", "gauge") or not isinstance(name, str):
        raise InputError(f"the gate is damaged: {name!r} of kind {kind!r} is not a metric or gauge")
    try:
        parse_step(name, kind)
    except ChainError as error:
        raise InputError(f"the gate needs {name!r}, which is not known here: {error}") from None
    numbers = {key: _number(entry, key) for key in ("mean", "sd", "weight", "low", "high")}
    if numbers["sd"] <= 0:
        raise InputError(f"the gate is damaged: the sd of {name} is not above 0")
    return Feature(name, kind, **numbers)


def _number(record: Mapping[str, Any], key: str) -> float:
    value = record.get(key)
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise InputError(f"the gate is damaged: {key} is not a number")
    try:
        number = float(value)
    except OverflowError:
        number = math.inf
    if not math.isfinite(number):
        raise InputError(f"the gate is damaged: {key} is not finite")
    return number
