"""Content of a page, gathered from a run or from pictures: plain data, without layout."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from magnetite import __version__
from magnetite.core.curves.study import activity_of
from magnetite.core.operations.score import Scorer
from magnetite.core.operations.selection import selected
from magnetite.core.picture import Picture
from magnetite.core.quantities import counted
from magnetite.experiment.guarantee import Drawn, Need, drawn, excluded
from magnetite.experiment.ledger import Ledger
from magnetite.experiment.provenance import machine, now
from magnetite.experiment.ranking import ranking
from magnetite.experiment.rates import family_of, rates
from magnetite.experiment.results import (
    RunRows,
    RunTable,
    chosen_metric,
    declared,
    metrics_of,
    read_rows,
)
from magnetite.experiment.summary import (
    means,
    remarks,
    unlike_rates,
    unlike_strengths,
    without_value,
)
from magnetite.files.reading import CodedFile
from magnetite.files.resources import DiskFiles
from magnetite.files.tables import plain_value
from magnetite.pages.answer import Answer, answers
from magnetite.pages.pictures import Gallery, Shown, gallery
from magnetite.pages.words import PlanWords, plan_words

#: Figures for which every pair of degradation and figure gets its table of rates.
_MOST_RATED = 12


@dataclass(frozen=True)
class Column:
    """A column of the score table."""

    title: str
    #: `text`, `number`, or `figure` of a metric or gauge.
    kind: str
    unit: str = ""
    #: Which way is better; None where that depends, or makes no sense.
    better: str | None = None


@dataclass(frozen=True)
class Content:
    """Everything that a page shows."""

    title: str
    summary: str
    gallery: Gallery
    columns: tuple[Column, ...] = ()
    rows: tuple[tuple[Any, ...], ...] = ()
    answers: tuple[Answer, ...] = ()
    #: The need of a guarantee, and its sequences of settings.
    need: Need | None = None
    guarantees: tuple[Drawn, ...] = ()
    #: Rows that cannot meet the need.
    excluded: tuple[str, ...] = ()
    metric: str = ""
    plan: PlanWords | None = None
    plan_text: str = ""
    #: Means with their intervals: titles, rows and caption.
    means: tuple[tuple[str, ...], tuple[tuple[Any, ...], ...], str] = ((), (), "")
    #: Tables of rates by degradation and figure.
    rates: tuple[dict[str, Any], ...] = ()
    #: Names of curves by a treatment's name and chain, which a newline separates.
    families: dict[str, str] = field(default_factory=dict)
    #: Names of single treatments in the same way, where they differ from the plan's.
    labels: dict[str, str] = field(default_factory=dict)
    #: Degradations, in the plan's order.
    levels: tuple[str, ...] = ()
    failures: tuple[tuple[str, str, str, str], ...] = ()
    facts: dict[str, str] = field(default_factory=dict)


def run_gallery(folder: Path) -> tuple[RunRows, Gallery]:
    """The rows of a run, and its pictures; errors as of `of_run`."""
    rows, facts, _, keys = _opened(folder)
    return rows, gallery(rows, facts, folder, keys)


def _opened(folder: Path) -> tuple[RunRows, dict[str, str], list[Any], frozenset[str]]:
    """Rows, facts, failures and keys of the cells of a run."""
    rows = read_rows(folder)
    ledger = Ledger(folder, writable=False)
    try:
        return rows, ledger.facts(), ledger.failures(), ledger.keys()
    finally:
        ledger.close()


def of_run(folder: Path, metric: str | None = None, need: Need | None = None) -> Content:
    """The content of a run's page; with a need, its guarantee.

    Raises
    ------
    FileError
        If the folder holds no run.
    InputError
        If no row is done, or the run has no such figure.
    """
    rows, facts, failures, keys = _opened(folder)
    chosen = chosen_metric(rows, metric)
    frame = rows.frame
    made = gallery(rows, facts, folder, keys)
    text = facts.get("plan", "")
    words = plan_words(text, int(frame["reference"].nunique()))
    return Content(
        title=(words.title if words else "") or f"run {folder.resolve().name}",
        summary=_summary(rows),
        gallery=made,
        columns=tuple(_columns(rows)),
        rows=tuple(_table(rows)),
        answers=tuple(answers(rows, chosen)) if chosen else (),
        need=need,
        guarantees=() if need is None else tuple(drawn(rows, need)),
        excluded=() if need is None else tuple(excluded(rows, need)),
        metric=chosen or "",
        plan=words,
        plan_text=text,
        means=_means(rows),
        rates=tuple(_rates(rows)),
        families=_families(rows),
        labels=_labels(rows),
        levels=tuple(rows.in_order("degradation")["degradation"].unique()),
        failures=tuple(failures),
        facts=_facts(facts, frame),
    )


def of_pictures(
    reference: Picture, tests: Sequence[Picture], names: Sequence[str], metrics: str,
    coded: Sequence[CodedFile | None],
) -> Content:  # fmt: skip
    """The content of a page of pictures that are not part of a run.

    Parameters
    ----------
    reference : Picture
    tests : sequence of Picture
    names : sequence of str
        Of the reference, then of the tests.
    metrics : str
        As `score` takes them; metrics that do not suit the pictures are left out.
    coded : sequence of CodedFile or None
        Bytes and rates of the files of compressed tests.
    """
    # Pictures of unlike depth are compared at the reference's.
    scorer = Scorer(reference, mixed_depths=True, files=DiskFiles())
    shown = [Shown(names[0], "reference", names[0], reference.describe(), reference)]
    asked = selected(metrics, "metric")
    labels = asked.labels
    notes: list[str] = []
    table = []
    for picture, name, file in zip(tests, names[1:], coded, strict=True):
        scores = scorer.score(picture, asked, strict=False)
        size, bpp = (None, None) if file is None else file
        if picture.bits != reference.bits:
            notes.append(f"{name}: scored at the depth of {names[0]}")
        notes += [f"{name}: {label} left out: {why}" for label, why in scores.left_out.items()]
        shown.append(
            Shown(names[0], "treated", name, picture.describe(), picture, bpp, dict(scores))
        )
        table.append((name, bpp, size, *(scores.get(label) for label in labels)))
    columns = [Column("picture", "text"), Column("bpp", "number"), Column("bytes", "number")]
    columns += [_figure_column(label) for label in labels]
    keep = [k for k in range(len(columns)) if k == 0 or any(r[k] is not None for r in table)]
    activity = activity_of(reference)
    words = "" if activity is None else f", activity {activity:.3g} dn of 8 bits"
    return Content(
        title=f"{counted(len(tests), 'picture')} against {names[0]}",
        summary=f"Reference {names[0]}: {reference.describe()}{words}.",
        gallery=Gallery(tuple(shown), (), tuple(notes)),
        columns=tuple(columns[k] for k in keep),
        rows=tuple(tuple(_plain(row[k]) for k in keep) for row in table),
        facts={"made": now(), **machine()},
    )


def _summary(rows: RunRows) -> str:
    frame = rows.frame
    counts = [
        (len(frame), "row"), (frame["reference"].nunique(), "reference"),
        (frame["degradation name"].nunique(), "degradation"),
        (frame["treatment name"].nunique(), "treatment"),
    ]  # fmt: skip
    words = ", ".join(f"{n} {noun}{'' if n == 1 else 's'}" for n, noun in counts)
    notes = [
        *rows.omissions(), *without_value(rows), *unlike_strengths(rows), *unlike_rates(rows),
    ]  # fmt: skip
    return "; ".join([words, *notes]) + "."


_TEXTS = ("reference", "degradation name", "degradation", "treatment name", "treatment")
_NUMBERS = ("seed", "bpp", "bytes")


def _columns(rows: RunRows) -> list[Column]:
    return [
        *(Column(name, "text") for name in _TEXTS),
        *(Column(name, "number") for name in _numbers(rows)),
        *(_figure_column(name) for name in rows.figures),
        Column("s", "number"),
    ]


def _numbers(rows: RunRows) -> list[str]:
    return [name for name in _NUMBERS if rows.frame[name].notna().any()]


def _figure_column(label: str) -> Column:
    figure = declared(label)
    if figure is None:
        return Column(label, "figure")
    return Column(label, "figure", figure.unit, figure.direction)


def _table(rows: RunRows) -> list[tuple[Any, ...]]:
    frame = rows.frame
    taken = frame[[*_TEXTS, *_numbers(rows), *rows.figures, "seconds treat"]]
    return [tuple(_plain(v) for v in row) for row in taken.itertuples(index=False, name=None)]


def _plain(value: Any) -> Any:
    """A value as JSON holds it: infinities as text, nothing for NaN, figures to nine digits."""
    if value is None or isinstance(value, str):
        return value
    number = float(value)
    if math.isnan(number):
        return None
    if math.isinf(number):
        return plain_value(number)
    return int(number) if number == int(number) and abs(number) < 2**53 else float(f"{number:.9g}")


def _means(rows: RunRows) -> tuple[tuple[str, ...], tuple[tuple[Any, ...], ...], str]:
    """A row for each degradation and treatment: mean and interval of every figure."""
    table = means(rows, ["degradation", "treatment"])
    frame, made = table.frame, []
    for key, group in frame.groupby(["degradation", "treatment"], sort=False):
        own = {row["figure"]: row for row in group.to_dict("records")}
        cells: list[Any] = [*key]
        for name in rows.figures:
            row = own.get(name)
            cells += [None] * 3 if row is None else [
                _plain(row[end]) for end in ("mean", "95 % from", "to")
            ]  # fmt: skip
        counts = (int(group["references"].max()), int(group["rows"].max()))
        made.append((*cells, *counts))
    titles = ["degradation", "treatment"]
    for name in rows.figures:
        titles += [name, f"{name} 95 % from", f"{name} to"]
    words = "; ".join([table.caption, *table.notes])
    return (*titles, "references", "rows"), tuple(made), words


def _rates(rows: RunRows) -> list[dict[str, Any]]:
    """Rates and rankings of treatments, for each degradation, level by level."""
    metrics = metrics_of(rows)[:_MOST_RATED]
    groups = list(rows.split(["degradation name"]))
    made = []
    for metric in metrics:
        for (name,), part in groups:
            for level, own in part.split(["degradation"]):
                made.append(_compared(str(name), str(level[0]), own, metric))
        if len(groups) > 1:
            made.append(_compared("", "", rows, metric))
    return [one for one in made if one is not None]


def _families(rows: RunRows) -> dict[str, str]:
    """Names of the curves of treatments that have several."""
    pairs = rows.frame[["treatment name", "treatment"]].drop_duplicates()
    made: dict[str, str] = {}
    for name, own in pairs.groupby("treatment name", sort=False):
        families = {chain: family_of(chain) for chain in own["treatment"]}
        if len(set(families.values())) not in (1, len(families)):
            made |= {f"{name}\n{chain}": f"{name}: {one}" for chain, one in families.items()}
    return made


def _labels(rows: RunRows) -> dict[str, str]:
    """Labels of treatments whose name stands for several chains."""
    triples = rows.frame[["treatment name", "treatment", "label"]].drop_duplicates()
    found = triples.itertuples(index=False, name=None)
    return {f"{name}\n{chain}": label for name, chain, label in found if label != name}


def _compared(name: str, level: str, rows: RunRows, metric: str) -> dict[str, Any] | None:
    """The table of rates, or else the ranking, of one part of the rows."""
    table: RunTable = rates(rows, metric) or ranking(rows, metric)
    if table.frame.empty:
        return None
    cells = [[_plain(v) for v in row] for row in table.frame.itertuples(index=False, name=None)]
    return {
        "degradation": name, "level": level, "metric": metric, "title": table.title,
        "caption": table.caption, "notes": [*table.notes, *remarks(rows)],
        "columns": list(table.frame.columns),
        "rows": cells,
    }  # fmt: skip


def _machine(text: str) -> dict[str, str]:
    """Names and versions of the run's software; none where the ledger's text is damaged."""
    try:
        found = json.loads(text)
    except (ValueError, RecursionError):
        return {}
    return {str(k): str(v) for k, v in found.items()} if isinstance(found, dict) else {}


def _facts(facts: dict[str, str], frame: Any) -> dict[str, str]:
    """Inputs of the same run."""
    made = {"page made": now(), "page made by": f"Magnetite {__version__}"}
    for name, title in (("started", "run begun"), ("finished", "run ended")):
        if name in facts:
            made[title] = facts[name]
    if "seconds" in facts:
        made["last run took"] = f"{facts['seconds']} s"
    made.update(_machine(facts.get("machine", "{}")))
    seeds = sorted({int(seed) for seed in frame["seed"]})
    made["seeds"] = ", ".join(map(str, seeds[:12])) + (" …" if len(seeds) > 12 else "")
    return made
