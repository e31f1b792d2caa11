"""Metrics of the pictures of a blind test, compared with the opinions on them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pandas as pd

from magnetite.core.errors import InputError
from magnetite.core.gate.gate import Feature, Gate
from magnetite.core.opinion.agreement import LEAST, Agreement, agreement, steiger
from magnetite.core.opinion.analysis import Opinions
from magnetite.core.quantities import counted
from magnetite.experiment.common import complete
from magnetite.experiment.opinions import check_grades, scores_of_test
from magnetite.experiment.results import better_of

#: Metrics that opinions are compared with unless others are named.
METRICS = "psnr,ssim,ms-ssim"
#: Figures by metric, then by picture.
Figures = dict[str, dict[str, float]]


class AgreementRow(NamedTuple):
    """How well a metric follows opinions, after the mapping."""

    metric: str
    #: `all`, or the kind of degradation that the pictures have.
    of: str
    pictures: int
    pearson: float
    pearson_low: float
    pearson_high: float
    spearman: float
    spearman_low: float
    spearman_high: float
    rmse: float
    rmse_low: float
    rmse_high: float
    #: Chance of so large a difference from the best one, corrected for all comparisons (Holm).
    p: float | None


@dataclass(frozen=True)
class Compared:
    """Metrics against opinions."""

    agreements: dict[str, Agreement]
    rows: tuple[AgreementRow, ...]
    #: On the pictures that all metrics are compared on.
    figures: Figures
    notes: tuple[str, ...]


def compared(found: Opinions, folder: Path, metrics: str = METRICS) -> Compared:
    """How metrics of the pictures follow the opinions on them.

    Raises
    ------
    InputError
        If the test has no values of pictures, or fewer than six with finite figures.
    """
    if not found.values:
        raise InputError(f"a test of {found.test.design} has no value for each picture to compare")
    figures = scores_of_test(found.test, folder, metrics)
    agreements, rows, shared, notes = _agreements(found, figures, "all", list(found.values))
    if not agreements:
        raise InputError("no metric can be compared: " + "; ".join(notes))
    kinds: dict[str, list[str]] = {}
    for one in found.test.stimuli:
        if one.name in found.values:
            kinds.setdefault(one.kind, []).append(one.name)
    for kind, names in kinds.items():
        if len(kinds) > 1 and len(names) >= LEAST:
            rows += _agreements(found, figures, kind, names)[1]
    by_metric: Figures = shared.to_dict()
    return Compared(agreements, tuple(rows), by_metric, tuple(notes))


def _agreements(
    found: Opinions, figures: Figures, of: str, names: Sequence[str]
) -> tuple[dict[str, Agreement], list[AgreementRow], Any, list[str]]:
    """Each metric against the opinions on the pictures that all have; these, and notes."""
    shared, notes = _shared(figures, names)
    y = np.array([found.values[str(k)].value for k in shared.index])
    if len(y) and np.ptp(y) == 0:
        return {}, [], shared, [*notes, f"the opinions of all {len(y)} pictures are the same"]
    agreements = {
        str(name): agreement(
            shared[name].to_numpy(), y, "higher" if better_of(name) == "higher" else "lower"
        )
        for name in shared
    }
    if not agreements:
        return {}, [], shared, notes
    best = max(agreements, key=lambda name: agreements[name].pearson.value)
    corrected = _holm({
        name: steiger(one.predicted, agreements[best].predicted, y)
        for name, one in agreements.items() if name != best
    })  # fmt: skip
    rows = [
        AgreementRow(
            name, of, len(y), *_ends(one.pearson), *_ends(one.spearman), *_ends(one.rmse),
            corrected.get(name),
        )
        for name, one in agreements.items()
    ]  # fmt: skip
    return agreements, rows, shared, notes


def _shared(figures: Figures, names: Sequence[str]) -> tuple[Any, list[str]]:
    """Figures on the pictures where those of all metrics are finite; notes on omissions."""
    values = pd.DataFrame(figures, index=list(names), dtype=float)
    counts = np.isfinite(values).sum()
    few = [name for name in values if counts[name] < LEAST]
    notes = [
        f"{name}: {counted(int(counts[name]), 'picture')} with a finite figure, and a mapping "
        f"takes {LEAST}" for name in few
    ]  # fmt: skip
    common = complete(values.drop(columns=few))
    shared = common.values
    notes += common.notes("pictures")
    if shared.shape[1] > 0 and len(shared) < LEAST:
        notes.append(
            f"{counted(len(shared), 'picture')} with finite figures of all metrics, and a mapping "
            f"takes {LEAST}: name fewer metrics"
        )
        return shared.iloc[:0, :0], notes
    same = [name for name in shared if np.ptp(shared[name]) == 0]
    notes += [f"{name}: the figures of all {len(shared)} pictures are the same" for name in same]
    return shared.drop(columns=same), notes


def gate_of(found: Opinions, made: Compared, metric: str, least: float) -> Gate:
    """A gate that accepts pictures of which people would give a grade or more, by one metric.

    Its value is the grade that the mapping predicts near the threshold.

    Raises
    ------
    InputError
        If the test has no grades, the metric was not compared, or the mapping does not reach the
        grade.
    """
    from magnetite import __version__

    check_grades(found)
    if metric not in made.agreements:
        raise InputError(f"{metric!r} was not compared; there are: {', '.join(made.agreements)}")
    mapping = made.agreements[metric].mapping
    cut = mapping.inverse(least)
    if cut is None:
        raise InputError(
            f"{metric} predicts {min(mapping.low, mapping.high):.3g} to "
            f"{max(mapping.low, mapping.high):.3g}: {least:g} is not among it"
        )
    values = np.array(list(made.figures[metric].values()))
    mean, sd = float(values.mean()), float(values.std()) or 1.0
    slope = mapping.slope(cut)
    feature = Feature(
        metric, "metric", mean, sd, slope * sd, float(values.min()), float(values.max())
    )
    facts = {
        "pictures": int(values.size), "references": len(found.test.contents),
        "raters": len(found.raters), "simulated": found.simulated,
    }  # fmt: skip
    return Gate((feature,), least + slope * (mean - cut), least, True, facts, __version__)


def _holm(chances: dict[str, float]) -> dict[str, float]:
    """Chances corrected for all comparisons (Holm, Scandinavian J. Statistics 6(2), 1979)."""
    order = sorted(chances, key=chances.__getitem__)
    corrected, largest = {}, 0.0
    for k, name in enumerate(order):
        largest = max(largest, min(1.0, (len(order) - k) * chances[name]))
        corrected[name] = largest
    return corrected


def _ends(estimate: Any) -> tuple[float, float, float]:
    return estimate.value, estimate.low, estimate.high
