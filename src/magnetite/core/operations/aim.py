"""Solve for one setting of a chain by its effect: `--aim ssim=0.80`."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

from magnetite.core.chain.notation import parse_step
from magnetite.core.chain.step import Chain, Step
from magnetite.core.errors import ChainError, TargetError
from magnetite.core.methods.catalogue import find
from magnetite.core.methods.context import Files
from magnetite.core.methods.declarations import Figure
from magnetite.core.methods.parameters import Count, Kind
from magnetite.core.operations.measuring import measured
from magnetite.core.operations.score import Pair, score_steps
from magnetite.core.picture import Picture, as_picture
from magnetite.core.picture.matching import check_comparable
from magnetite.core.quantities import read_number, significant
from magnetite.core.solve.axis import Axis
from magnetite.core.solve.bracket import Goal, Search, Sense

#: A figure without a declared tolerance is reached within this share of the target.
RELATIVE_TOLERANCE = 0.005


@dataclass(frozen=True)
class Aim:
    """Target of a solved setting, and the value reached."""

    metric: str
    target: float
    reached: float
    tolerance: float
    setting: str
    tries: int
    #: Whether the target is to be met, or is the least or most allowed.
    sense: Sense = "="

    @property
    def words(self) -> str:
        """The result in words."""
        near = f" (tolerance {self.tolerance:g})" if self.sense == "=" else ""
        return (
            f"{self.setting} gives {self.metric} {significant(self.reached, 6)}{near}, "
            f"found in {self.tries} tries"
        )


@dataclass(frozen=True)
class Target:
    """A metric or gauge and the value it is to have, or to have at least or at most.

    Of settings that satisfy `>=` or `<=`, the one whose figure is nearest to the value is
    wanted: the least rate, or the strongest degradation.
    """

    step: Step
    value: float
    sense: Sense = "="
    #: Whether the value is a share of the gauge of the clean picture.
    relative: bool = False

    @classmethod
    def of(cls, target: Target | str) -> Target:
        """A target as it is, or read from its text by `parse`."""
        return target if isinstance(target, Target) else cls.parse(target)

    @classmethod
    def parse(cls, text: str) -> Target:
        """Read `psnr=30`, `ssim>=0.95`, `ssim window=7=0.8`, `laplacian-variance=50%`.

        A percentage of a gauge is a share of its value in the clean picture; of a gauge that is a
        share itself, that share.

        Raises
        ------
        ChainError
            If it is anything else.
        """
        name, _, number = text.rpartition("=")
        sense: Sense = ">=" if name.endswith(">") else "<=" if name.endswith("<") else "="
        name = name.rstrip("<>").strip()
        number = number.strip().removesuffix("dB")
        percent = number.endswith("%")
        try:
            value = read_number(number.removesuffix("%")) / (100 if percent else 1)
        except ValueError:
            value = math.nan
        if not name or not math.isfinite(value):
            raise ChainError(
                f"{text!r} is not an aim: write METRIC=VALUE, METRIC>=VALUE or METRIC<=VALUE, "
                "as in psnr=30"
            )
        kind = "gauge" if find("gauge", name.split()[0]) else "metric"
        step = parse_step(name, kind)
        if percent and kind == "metric":
            raise ChainError(f"{text!r}: a percentage is that of a gauge; write a metric's value")
        relative = percent and step.declared(Figure).unit != "share"
        return cls(step, value, sense, relative)

    def __str__(self) -> str:
        return f"{self.step}{self.sense}{self.value:g}"

    def for_reference(self, reference: Picture, files: Files | None = None) -> Target:
        """The target with a share made a value by the gauge of the clean picture."""
        if not self.relative:
            return self
        own = self.measure(reference, reference, files)
        return replace(self, value=self.value * own, relative=False)

    @property
    def goal(self) -> Goal:
        return Goal(self.value, self.tolerance, self.sense)

    @property
    def tolerance(self) -> float:
        """How close counts as reached."""
        declared = self.step.declared(Figure).tolerance
        return float(declared or RELATIVE_TOLERANCE * max(abs(self.value), 1e-9))

    def measure(self, reference: Picture, test: Picture, files: Files | None = None) -> float:
        """The figure of a test picture."""
        if self.step.kind == "gauge":
            return measured([self.step], test, strict=True, files=files)[str(self.step)]
        if test.bits is None and reference.bits is not None:  # samples beyond the range were kept
            reference = as_picture(reference.pixels(), reference.origin)
        check_comparable(reference, test)
        return score_steps(Pair(reference, test), [self.step], files=files)[str(self.step)]


def solve_chain(
    chain: Chain,
    target: Target,
    reference: Picture,
    make: Callable[[Chain], Picture],
    files: Files | None = None,
) -> tuple[Chain, Aim]:
    """The chain with its one `auto` setting solved for.

    Parameters
    ----------
    chain : Chain
        With exactly one setting `auto`.
    target : Target
    reference : Picture
    make : function
        The stored picture of a chain; with the same random numbers at every call.
    files : Files, optional
        Reads files that the target's settings name.

    Raises
    ------
    ChainError
        If not exactly one setting is `auto`.
    TargetError
        If no value of it reaches the target.
    """
    if len(chain.open_settings) != 1:
        raise ChainError(
            f"an aim solves for one setting: write auto for one in {str(chain)!r}, "
            f"not for {len(chain.open_settings)}"
        )
    target = target.for_reference(reference, files)
    ((position, key),) = chain.open_settings
    step = chain.steps[position]
    kind = step.method.parameters[key].kind
    span = kind.span()
    if span is None:
        raise ChainError(f"{step.method.name} {key}= cannot be solved for")

    def solved(number: float) -> Chain:
        return chain.with_setting(position, key, kind.at(number))

    def evaluate(number: float) -> float:
        return target.measure(reference, make(solved(number)), files)

    def spell(number: float) -> str:
        return kind.spell(kind.at(number))

    search = Search(evaluate, Axis(span), spell, target.goal)
    number, value = search.run()
    found = solved(number)
    setting = f"{step.method.name} {key}={spell(number)}"
    if not target.goal.satisfied(value - target.value):
        raise TargetError(_miss(search, target, kind, step.name, key))
    tries = search.tries
    aim = Aim(str(target.step), target.value, value, target.tolerance, setting, tries, target.sense)
    return found, aim


def _miss(search: Search, target: Target, kind: Kind, name: str, key: str) -> str:
    """Remark on a target that was not reached."""
    figures = {u: excess + target.value for u, excess in search.tried.items()}
    label = str(target.step)

    def at(position: float) -> str:
        setting = search.spell(search.axis.number(position))
        return f"{significant(figures[position], 6)} at {key}={setting}"

    low, high = min(figures, key=figures.__getitem__), max(figures, key=figures.__getitem__)
    if not search.crossings():
        reach = f"goes from {at(low)} to {at(high)}"
        if figures[low] == figures[high]:
            reach = f"is {significant(figures[low], 6)} at every setting that was tried"
        return f"{target} is out of reach of {name}: {label} {reach}"
    below = max((u for u in figures if search.tried[u] <= 0), key=figures.__getitem__)
    above = min((u for u in figures if search.tried[u] > 0), key=figures.__getitem__)
    hint = "; the setting takes whole numbers only" if isinstance(kind, Count) else ""
    return (
        f"{target} is not met by {name} within {target.tolerance:g} in {search.tries} "
        f"tries: the closest were {at(below)} and {at(above)}{hint}; "
        f"write {label}>={target.value:g} or {label}<={target.value:g} for the "
        "nearest on one side"
    )
