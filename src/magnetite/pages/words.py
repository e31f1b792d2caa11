"""A plan in plain words."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass

from magnetite.core.chain.step import Chain
from magnetite.core.operations.selection import ALL, Selection
from magnetite.experiment.plan import Plan


@dataclass(frozen=True)
class Item:
    """A degradation or a treatment: its name, its chain as it was written, and its effect."""

    name: str
    chain: str
    words: str
    #: Chains that it stands for.
    count: int


@dataclass(frozen=True)
class PlanWords:
    """Content of a plan."""

    title: str
    sentences: tuple[str, ...]
    degradations: tuple[Item, ...]
    treatments: tuple[Item, ...]


def plan_words(text: str, references: int) -> PlanWords | None:
    """A plan in words; None if the text is not a plan, as for a curve."""
    try:
        content = tomllib.loads(text)
        plan = Plan.model_validate(content)
    except (tomllib.TOMLDecodeError, ValueError):
        return None
    lists = {
        kind: tuple(
            Item(name, content.get(kind, {}).get(name, name), _words(chains), len(chains))
            for name, chains in plan.chains(kind).items()
        )
        for kind in ("degradations", "treatments")
    }  # fmt: skip
    return PlanWords(plan.title, tuple(_sentences(plan, references)), **lists)


def _sentences(plan: Plan, references: int) -> list[str]:
    made = [f"{_number(references, 'reference')} from {', '.join(plan.references.files)}."]
    if plan.references.convert:
        made.append(f"Each is converted first: {plan.references.convert}.")
    made.append(
        "Each is degraded in every way below, and every degraded picture is treated in every way "
        f"below{', but for some pairs' if plan.pairs.only or plan.pairs.exclude else ''}."
    )
    if plan.repeats > 1:
        last = plan.seed + plan.repeats - 1
        made.append(
            f"Where random numbers are drawn it is done {plan.repeats} times, with the seeds "
            f"{plan.seed} to {last}."
        )
    metrics, gauges = (_listed(one) for one in (plan.scores.metrics, plan.scores.gauges))
    made.append(f"Scores against the reference: {metrics}{f'; gauges: {gauges}' * bool(gauges)}.")
    return made


def _listed(asked: Selection) -> str:
    return ALL if asked.every else ",".join(asked.labels)


def _number(count: int, noun: str) -> str:
    return f"{count} {noun}{'' if count == 1 else 's'}"


def _words(chains: list[Chain | None]) -> str:
    """Effects of the steps, by their declarations."""
    first = chains[0]
    if first is None:
        return "The picture is left as it is."
    return " ".join(step.method.summary for step in first.steps)
