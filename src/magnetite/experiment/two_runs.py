"""Two runs compared: the same rows of both, paired."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from magnetite.core.errors import InputError
from magnetite.core.quantities import counted
from magnetite.experiment.common import interval_over
from magnetite.experiment.ledger import Ledger
from magnetite.experiment.results import RunRows, RunTable, read_rows

#: Name of the table.
TWO_RUNS = "two runs"
#: Key of a row in both runs; references by the digest of their samples.
_KEY = ["digest", "degradation", "seed", "treatment"]


def compared(first: Path, second: Path) -> RunTable:
    """Paired differences of every figure that both runs have, for each treatment.

    Rows are matched by the samples of the reference, the degradation, the seed and the treatment;
    means and intervals are over references, each the mean of its rows. Infinite figures that are
    equal differ by 0.

    Raises
    ------
    FileError
        If a folder holds no run.
    InputError
        If the runs share no row or no figure.
    """
    (one, makers), (two, others) = (_keyed(folder) for folder in (first, second))
    figures = [name for name in one.figures if name in two.figures]
    if not figures:
        raise InputError(f"{first} and {second} share no figure")
    both = one.frame.merge(two.frame, on=_KEY, suffixes=("", " of the second"))
    if both.empty:
        raise InputError(
            f"{first} and {second} share no row: none has the same reference, degradation, seed "
            "and treatment"
        )
    made = [
        line
        for treatment, own in both.groupby("label", sort=False)
        for name in figures
        if (line := _line(treatment, name, own)) is not None
    ]
    one_alone = both["digest"].nunique() == 1
    over = "the repeats of one reference" if one_alone else "references, each the mean of its rows"
    titles = ["treatment", "figure", "first", "second", "second minus first", "95 % from", "to",
              "equal rows", "rows", "references"]  # fmt: skip
    return RunTable(
        TWO_RUNS, f"{second.name} against {first.name}", pd.DataFrame(made, columns=titles),
        f"paired over {over}; intervals are single, not simultaneous",
        (*_notes(first, second, one, two, both), *_endless(figures, both),
         *_remade(both, [name for name in figures if makers.get(name) != others.get(name)])),
    )  # fmt: skip


def _keyed(folder: Path) -> tuple[RunRows, dict[str, str]]:
    """The rows of a run, each once, with the digest of their reference; makers of its figures."""
    rows, ledger = read_rows(folder), Ledger(folder, writable=False)
    try:
        digests, keys, makers = ledger.digests(), ledger.identities(), ledger.makers()
    finally:
        ledger.close()
    frame = rows.frame.assign(digest=rows.frame["reference"].map(digests)).drop_duplicates(_KEY)
    found = zip(*(frame[column].tolist() for column in _KEY), strict=True)
    frame = frame.assign(key=[keys.get(one) for one in found])
    return replace(rows, frame=frame), makers


def _line(treatment: Any, name: str, own: Any) -> tuple[Any, ...] | None:
    """Means and their difference for one treatment and figure; None where none is finite."""
    old, new, gap = _gaps(name, own)
    known = np.isfinite(gap)
    if not known.any():
        return None
    groups = [part.tolist() for _, part in gap[known].groupby(own["digest"][known], sort=False)]
    found = interval_over(groups, repeats=own["degradation"].nunique() == 1)
    means = (side[known].groupby(own["digest"][known]).mean().mean() for side in (old, new))
    equal = int((old[known] == new[known]).sum())
    return (treatment, name, *means, *found[:3], equal, int(known.sum()), len(groups))


def _gaps(name: str, own: Any) -> tuple[Any, Any, Any]:
    """A figure in both runs, and the second minus the first: 0 where equal, NaN without one."""
    old, new = (own[column].astype(float) for column in (name, f"{name} of the second"))
    with np.errstate(invalid="ignore"):
        return old, new, (new - old).where(old != new, 0.0)


def _endless(figures: list[str], both: Any) -> Iterator[str]:
    """Notes on rows whose figure is infinite or missing in one run alone."""
    for name in figures:
        old, new, gap = _gaps(name, both)
        if count := int((~np.isfinite(gap) & (old.notna() | new.notna())).sum()):
            rows = counted(count, "row")
            yield f"{name}: {rows} left out, where it is infinite or missing in one run alone"


def _remade(both: Any, figures: list[str]) -> Iterator[str]:
    """Differences that come from other versions or files, not from the pictures."""
    if count := int((both["key"] != both["key of the second"]).sum()):
        yield (
            f"{counted(count, 'row')} made by other versions of the methods, or with other files, "
            "than in the first run"
        )
    if figures:
        names = ", ".join(figures)
        yield f"of another version, or with other files, than in the first run: {names}"


def _notes(first: Path, second: Path, one: RunRows, two: RunRows, both: Any) -> list[str]:
    """Rows that only one of the runs has, and figures that differ."""
    notes = []
    for folder, rows in ((first, one), (second, two)):
        alone = len(rows.frame) - len(both)
        if alone:
            notes.append(f"{alone} of {len(rows.frame)} rows of {folder.name} are not in the other")
        notes += [f"{folder.name}: {words}" for words in rows.omissions()]
    apart = sorted(set(one.figures) ^ set(two.figures))
    if apart:
        notes.append(f"not compared, as one run lacks it: {', '.join(apart)}")
    return notes
