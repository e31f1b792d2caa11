"""Declarations of methods: common to all kinds, and of each kind."""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields
from enum import Enum
from typing import Any, Literal

from magnetite.core.methods.parameters import Kind
from magnetite.core.methods.sums import Sums
from magnetite.core.picture.frame import Colour, Light

MethodKind = Literal["conversion", "degradation", "codec", "restoration", "metric", "gauge"]
#: How a metric takes a part of any shape: see the decorator `metric`.
MaskRule = Literal["samples", "windows"] | None
Direction = Literal["higher", "lower"]
Reach = int | None | Callable[..., int | None]
Statistics = bool | Callable[..., bool]
Memory = float | Callable[..., float]
#: Facts that random numbers depend on: shapes of arrays alone; samples of the same chunk (see
#: `compute.random`); all samples of the picture. Bands draw their part of the first two.
DrawsBy = Literal["shape", "chunk", "picture"]
Slabbed = bool | Callable[..., bool]


class ColourPolicy(Enum):
    """Treatment of more than one channel."""

    EACH = "each channel separately"
    JOINT = "all channels together"
    LUMA = "luma of colour pictures"
    RGB = "colour pictures only"


@dataclass(frozen=True)
class Parameter:
    """One setting of a method.

    `default` is `inspect.Parameter.empty` where a value must be given, and None where leaving
    the setting out is a choice of its own.
    """

    name: str
    kind: Kind
    default: Any
    #: Its role in the method, in a few words.
    meaning: str = ""

    @property
    def key(self) -> str:
        """The name as it is written in a chain."""
        return self.name.replace("_", "-")

    @property
    def required(self) -> bool:
        return self.default is inspect.Parameter.empty

    def describe(self) -> str:
        """Its meaning, and the values that can be written."""
        return "; ".join(filter(None, (self.meaning, self.kind.describe())))

    @property
    def default_text(self) -> str | None:
        """The default as it would be written; None where there is none to write."""
        return None if self.required or self.default is None else self.kind.spell(self.default)


# Each declaration is there once: comparison and a text of its own would take longer to make than
# the rest.
@dataclass(frozen=True, eq=False, repr=False)
class Method:
    """The declaration of one method."""

    kind: MethodKind
    name: str
    summary: str
    colour: ColourPolicy
    source: str
    function: Callable[..., Any]
    parameters: Mapping[str, Parameter]
    #: Parameters that follow from the picture and are never written.
    implicit: tuple[Parameter, ...]
    #: Keys of which exactly one must be given.
    one_of: tuple[str, ...]
    #: Names of the function's parameters besides its settings, such as pixels, rng, peak.
    inputs: tuple[str, ...]
    #: How far from a sample it looks, px: a number, a function of the settings; None: everywhere.
    reach: Reach = field(repr=False)
    #: Whether it needs figures of the whole picture: yes or no, or a function of the settings.
    statistics: Statistics = field(repr=False)
    #: Bytes that it takes at most for each sample of the picture, its result included: a number,
    #: or a function of the settings.
    memory: Memory = field(repr=False)
    #: Raised whenever its results for the same settings change.
    version: int = field(default=1, kw_only=True)

    @property
    def defaults(self) -> dict[str, Any]:
        """Defaults by the function's names; `inspect.Parameter.empty` where there are none."""
        return {p.name: p.default for p in self.parameters.values()}

    def reach_of(self, settings: Mapping[str, Any]) -> int | None:
        """How far from a sample it looks with these settings, px; None: everywhere."""
        return self.reach(**settings) if callable(self.reach) else self.reach

    def needs_statistics(self, settings: Mapping[str, Any]) -> bool:
        """Whether it needs figures of the whole picture with these settings."""
        return self.statistics(**settings) if callable(self.statistics) else self.statistics

    def draws_with(self, settings: Mapping[str, Any]) -> bool:
        """Whether it draws random numbers with these settings, all by the function's names."""
        return "rng" in self.inputs

    def memory_of(self, settings: Mapping[str, Any]) -> float:
        """Bytes that it takes at most for each sample with these settings."""
        return self.memory(**settings) if callable(self.memory) else self.memory

    @property
    def complete(self) -> bool:
        """Whether it can be used without any setting."""
        return not self.one_of and not any(p.required for p in self.parameters.values())

    @property
    def formula(self) -> str:
        """The function's docstring before its first section."""
        body = inspect.getdoc(self.function) or ""
        return re.split(r"\n\w+\n---", body)[0].strip()

    @property
    def example(self) -> str:
        """The method with a value for every setting that must be given."""
        given = [key for key, parameter in self.parameters.items() if parameter.required]
        keys = [*self.one_of[:1], *given]
        return " ".join([self.name, *(f"{k}={self.parameters[k].kind.example()}" for k in keys)])

    @property
    def facts(self) -> dict[str, Any]:
        """Declarations of this kind of method beyond those of all, by name: plain values only."""
        common = {field.name for field in fields(Method)}
        return {
            field.name: getattr(self, field.name)
            for field in fields(self)
            if field.name not in common and field.repr
        }


@dataclass(frozen=True, eq=False, repr=False)
class Conversion(Method):
    """A conversion: it may change size, colour and depth of a picture."""

    #: `region(frame, **settings)`: the part of the picture it keeps, unchanged, if it only crops.
    region: Callable[..., Any] | None = field(default=None, repr=False)


@dataclass(frozen=True, eq=False, repr=False)
class Degradation(Method):
    """A degradation, and the measurement of its effect (see `degrade.certify`)."""

    #: `certify(change, **settings)`: of the whole picture.
    certify: Callable[..., Any] | None = field(default=None, repr=False)
    #: `survey(before, **settings)`: band by band; None where these settings need the whole.
    survey: Callable[..., Any] | None = field(default=None, repr=False)
    draws_by: DrawsBy = field(default="picture", repr=False)
    #: `draws(**settings)`: whether it draws random numbers; None: if it takes a generator.
    draws: Callable[..., bool] | None = field(default=None, repr=False)
    #: Colour of the result, where it is another one.
    gives: Colour | None = field(default=None, repr=False)
    #: Relation of the result to light, where it is another one than before.
    gives_light: Light | None = field(default=None, repr=False)
    #: Whether it is only right in linear light.
    linear: bool = field(default=False, repr=False)

    def draws_with(self, settings: Mapping[str, Any]) -> bool:
        return super().draws_with(settings) if self.draws is None else self.draws(**settings)


@dataclass(frozen=True, eq=False, repr=False)
class Restoration(Method):
    """A restoration, and the damage that it undoes where an estimate of its error is known."""

    removes: Literal["noise", "blur"] | None = field(default=None, kw_only=True)


@dataclass(frozen=True, eq=False, repr=False)
class Codec(Method):
    """A codec: which setting trades rate for quality, and how it is swept."""

    quality: str
    #: Which way of the quality setting is finer.
    finer: Direction
    #: The sweep of it that a curve uses when none is given.
    points: str
    #: Whether it is somebody else's codec.
    yardstick: bool
    #: Whether large pictures are coded slab by slab: yes or no, or a function of the settings.
    slabbed: Slabbed = field(default=False, repr=False)
    #: `remark(frame, sections, settings)` gives a remark on the coded picture.
    remark: Callable[..., list[str]] | None = field(default=None, repr=False)

    def is_slabbed(self, settings: Mapping[str, Any]) -> bool:
        """Whether large pictures are coded slab by slab with these settings."""
        return self.slabbed(**settings) if callable(self.slabbed) else self.slabbed


@dataclass(frozen=True, eq=False, repr=False)
class Figure(Method):
    """Declarations of metrics and gauges on their figure."""

    unit: str
    #: The range of the figure in words.
    values: str
    #: The smallest picture that has one.
    smallest: str
    #: How close counts as reached where a setting is solved for it; 0.5 % if None.
    tolerance: float | None
    #: Whether samples outside the range count as black or full scale.
    clips: bool
    #: How it is added up over parts of a picture; None where it needs all of it.
    sums: Sums | None = field(default=None, repr=False, kw_only=True)

    @property
    def direction(self) -> Direction | None:
        """Which way is better; None where that depends."""
        return None

    @property
    def takes_integers(self) -> bool:
        """Whether it takes whole-number samples as they are, on the scale of their depth."""
        return False

    @property
    def power(self) -> int:
        """The power of full scale that the figure grows with."""
        return {"dn": 1, "dn²": 2}.get(self.unit, 0)


@dataclass(frozen=True, eq=False, repr=False)
class Metric(Figure):
    """A figure of a picture against its reference."""

    better: Direction
    #: The figure of a picture against itself; None where that depends on the picture.
    identical: float | None
    mask: MaskRule
    integers: bool = field(default=False, repr=False)

    @property
    def direction(self) -> Direction | None:
        return self.better

    @property
    def takes_integers(self) -> bool:
        return self.integers


@dataclass(frozen=True, eq=False, repr=False)
class Gauge(Figure):
    """A figure of one picture alone."""
