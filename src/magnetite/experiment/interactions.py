"""The best treatment for each degradation and each reference, and whether it changes with them."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd

from magnetite.core.analysis.interaction import LEAST_UNITS, interaction
from magnetite.experiment.common import scores_of
from magnetite.experiment.ranking import LEVEL
from magnetite.experiment.results import RunRows, RunTable, better_of

#: Name of the table.
INTERACTIONS = "interactions"
#: The groups, and the independent units of their test.
_KINDS = {"degradation": "reference", "reference": "degradation"}


def interactions(rows: RunRows, metric: str) -> RunTable | None:
    """The best treatment of each degradation and of each reference; None for a single treatment.

    Differences of treatments between degradations are tested over references, those between
    references over degradations.
    """
    common = scores_of(rows, metric)
    if common.values.shape[1] < 2 or common.values.empty:
        return None
    higher = better_of(metric) == "higher"
    cells = common.values.groupby(level=["reference", "degradation"], sort=False).mean()
    names = _names(rows)
    made: list[dict[str, Any]] = []
    notes: list[str] = []
    for kind, unit in _KINDS.items():
        groups = cells.groupby(level=kind, sort=False)
        if len(groups) < 2:
            continue
        lines = [_line(kind, names.get(name, name), own, metric, higher) for name, own in groups]
        made += lines
        notes.append(_sentence(kind, unit, cells, {line["best"] for line in lines}))
    if not made:
        return None
    return RunTable(
        INTERACTIONS, f"Best treatments by {metric}", pd.DataFrame(made),
        "means of the pictures that all treatments have; ahead: share of the group's "
        "references or degradations in which the best is first",
        (*notes, *common.notes()),
    )  # fmt: skip


def _names(rows: RunRows) -> dict[str, str]:
    """Degradations by the plan's own names; where a name has several strengths, with its number."""
    made: dict[str, str] = {}
    chains = rows.in_order("degradation")[["degradation name", "degradation"]].drop_duplicates()
    for name, own in chains.groupby("degradation name", sort=False)["degradation"]:
        several = len(own) > 1
        made |= {chain: f"{name} ({k})" if several else name for k, chain in enumerate(own, 1)}
    return made


def _line(kind: str, name: str, own: Any, metric: str, higher: bool) -> dict[str, Any]:
    means = own.mean().sort_values(ascending=not higher, kind="stable")
    first = own.idxmax(axis=1) if higher else own.idxmin(axis=1)
    return {
        "for each": kind, "group": name, "best": means.index[0],
        f"mean {metric}": float(means.iloc[0]), "second": means.index[1],
        "minus the best": float(means.iloc[1] - means.iloc[0]),
        "ahead %": 100 * float((first == means.index[0]).mean()),
    }  # fmt: skip


def _sentence(kind: str, unit: str, cells: Any, best: set[str]) -> str:
    """Whether the differences of treatments change with the group."""
    words = f"by the means, the best treatment is the same for every {kind}"
    if len(best) > 1:
        words = f"by the means, {len(best)} treatments are best for some {kind}"
    values = _cube(cells, kind, unit)
    chance = None if values is None else interaction(values)
    if chance is None:
        return (
            f"{words}; whether the differences change is not tested: it takes {LEAST_UNITS} "
            f"{unit}s that have every {kind}"
        )
    changes = "change" if chance < LEVEL else "are not shown to change"
    return (
        f"{words}; the differences of treatments {changes} with the {kind} (p {chance:.2g}, over "
        f"the {len(values)} {unit}s that have every {kind})"
    )


def _cube(cells: Any, kind: str, unit: str) -> Any:
    """Values of units with all groups: shape (units, treatments, groups); None if none has."""
    whole = cells.unstack(kind).dropna()
    if whole.empty:
        return None
    treatments = cells.shape[1]
    return np.asarray(whole.to_numpy(float)).reshape(len(whole), treatments, -1)
