"""Metrics and gauges that are asked for: read from a list, or all that apply."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace

from magnetite.core.chain.notation import parse_step
from magnetite.core.chain.step import Step
from magnetite.core.errors import ChainError
from magnetite.core.methods import declarations
from magnetite.core.methods.catalogue import declared_by, every
from magnetite.core.methods.declarations import ColourPolicy, MethodKind
from magnetite.core.table import Column

#: Every metric or gauge that applies to the given pictures.
ALL = "all"


@dataclass(frozen=True)
class Selection:
    """Metrics or gauges that are asked for."""

    steps: tuple[Step, ...]
    #: Whether all that apply are: those that the pictures do not suit are left out then.
    every: bool = False

    @classmethod
    def named(cls, kind: MethodKind, *names: str) -> Selection:
        """Those of a kind and some names, at their defaults."""
        return cls(tuple(Step(kind, name) for name in names))

    def __iter__(self) -> Iterator[Step]:
        return iter(self.steps)

    @property
    def labels(self) -> list[str]:
        """Canonical texts."""
        return [str(step) for step in self.steps]

    def declared(self, label: str) -> declarations.Figure:
        """The declaration of the one of a canonical text."""
        return self.step(label).declared(declarations.Figure)

    def step(self, label: str) -> Step:
        """The one of a canonical text."""
        return next(step for step in self.steps if str(step) == label)

    def only(self, labels: Iterable[str]) -> Selection:
        """Those of some canonical texts, in their own order."""
        chosen = set(labels)
        return replace(self, steps=tuple(step for step in self.steps if str(step) in chosen))

    def without(self, labels: Iterable[str]) -> Selection:
        """All others."""
        return self.only(set(self.labels).difference(labels))


def score_column(step: Step, within: str = "", *, colour: bool = False) -> Column:
    """The column of a metric or gauge; of colour pictures, `luma` where that is scored."""
    figure = step.declared(declarations.Figure)
    luma = colour and figure.colour is ColourPolicy.LUMA
    remark, optional = "luma" * luma, bool(within)
    return Column(str(step), figure.unit, figure.direction, within, optional, remark)


#: No figures.
NONE = Selection(())
#: Names with settings, the function of a single figure of one's own, or figures read already.
Named = str | Callable[..., float] | Selection


def selected(named: Named, kind: str) -> Selection:
    """Read a list such as `psnr,ssim window=7`, or `all`; `kind` is "metric" or "gauge".

    Raises
    ------
    ChainError
        If it cannot be read, names a figure twice, or one of another kind.
    """
    if isinstance(named, Selection):
        return named
    if not isinstance(named, str):
        method = declared_by(named)
        if method.kind != kind:
            raise ChainError(f"{method.name} is a {method.kind}, not a {kind}")
        return Selection((Step(kind, method.name),))
    if named == ALL:
        methods = [method for method in every(kind) if method.complete]
        return Selection(tuple(Step(m.kind, m.name) for m in methods), every=True)
    found = Selection(tuple(parse_step(part, kind) for part in named.split(",")))
    for label in found.labels:
        if found.labels.count(label) > 1:
            raise ChainError(f"{label!r} is listed twice in {named!r}")
    return found
