"""Labelled pictures: a table of figures, and what people said of its pictures."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from magnetite.core.errors import ChainError, FileError, InputError, PictureError
from magnetite.core.verbs.figures import parse_figures

ACCEPTED = {"accepted", "accept", "good", "pass", "yes", "true", "1"}
REJECTED = {"rejected", "reject", "bad", "fail", "no", "false", "0"}
#: Columns that name a picture in the tables of score, gauge and run.
_PICTURES = ("test", "picture", "reference")


@dataclass(frozen=True)
class Labelled:
    """Figures of pictures, their labels, and the references that they come from."""

    figures: dict[str, list[float]]
    #: True for accepted; or scores.
    labels: list[bool] | list[float]
    groups: list[str]

    @property
    def of_classes(self) -> bool:
        return all(isinstance(label, bool) for label in self.labels)


def read_labelled(
    path: Path, label: str | None, labels: Path | None, metrics: str | None, group: str | None
) -> Labelled:
    """Figures and labels from CSV files.

    Parameters
    ----------
    path : Path
        The table from score, gauge or run.
    label : str or None
        Column of the labels; the last column of `labels` if left out there.
    labels : Path or None
        Another table with a column of pictures and one of labels, if they are not in the first.
    metrics : str or None
        The figures to take; all columns that are metrics or gauges if left out.
    group : str or None
        Column that names the reference of each picture; `reference`, or the picture itself.

    Raises
    ------
    FileError
        If a table cannot be read.
    InputError
        If a column is missing, or a label is neither a class nor a number.
    """
    table = _read(path)
    column = label
    if labels is not None:
        table, column = _joined(table, _read(labels), label)
    if column is None:
        raise InputError(f"{path}: name the column of the labels, as in --label verdict")
    if column not in table:
        raise InputError(f"{path}: has no column {column!r}; it has: {', '.join(table.columns)}")
    if "status" in table:
        table = table[table["status"] == "done"]
    table = table[table[column].notna()]
    names = _figures(table, metrics, column, path)
    groups = group or next((c for c in ("reference", *_PICTURES) if c in table), None)
    if groups not in table:
        raise InputError(f"{path}: has no column {groups!r} to tell references by")
    figures = {
        name: pd.to_numeric(table[name].replace("inf", float("inf")), errors="coerce").tolist()
        for name in names
    }
    return Labelled(figures, _labels(table[column].tolist()), table[groups].astype(str).tolist())


def gauge_folders(accepted: Path, rejected: Path, gauges: str) -> Labelled:
    """Gauges of all pictures in two folders, which are the labels."""
    from magnetite import gauge
    from magnetite.files.pairs import pictures_in
    from magnetite.files.reading import read

    steps = [str(step) for step in parse_figures(gauges, "gauge")]
    figures: dict[str, list[float]] = {name: [] for name in steps}
    labels, groups = [], []
    for folder, label in ((accepted, True), (rejected, False)):
        for path in pictures_in(folder):
            found = gauge(read(path), gauges, strict=False)
            for name in steps:
                figures[name].append(found.get(name, float("nan")))
            labels.append(label)
            groups.append(path.stem)
    if not labels:
        raise PictureError(f"{accepted} and {rejected} hold no pictures")
    return Labelled(figures, labels, groups)


def _read(path: Path) -> Any:
    try:
        return pd.read_csv(path, dtype=str, keep_default_na=True)
    except OSError as error:
        raise FileError(f"{path}: cannot be read ({error.strerror})") from None
    except ValueError as error:
        raise FileError(f"{path}: is not a CSV table ({str(error).splitlines()[0]})") from None


def _joined(table: Any, labels: Any, label: str | None) -> tuple[Any, str]:
    """The table with the labels of another, by the names of the pictures without folders."""
    column = label or labels.columns[-1]
    keys = [c for c in labels.columns if c != column]
    name = next((c for c in _PICTURES if c in table), None)
    if column not in labels or not keys or name is None:
        raise InputError(
            "the labels are a table with a column of pictures and one of labels, and the first "
            "table names its pictures in a column test or picture"
        )
    known = {Path(str(k)).name: v for k, v in zip(labels[keys[0]], labels[column], strict=True)}
    found = table[name].map(lambda text: known.get(Path(str(text)).name))
    if found.isna().all():
        raise InputError(f"none of the labels is of a picture of the table: see {keys[0]}, {name}")
    return table.assign(**{column: found}), str(column)


def _figures(table: Any, metrics: str | None, label: str, path: Path) -> list[str]:
    if metrics is not None:
        names = metrics.split(",")
        if missing := [name for name in names if name not in table]:
            raise InputError(f"{path}: has no column {missing[0]!r}")
        return names
    names = [column for column in table.columns if column != label and _is_figure(column)]
    if not names:
        raise InputError(f"{path}: no column is a metric or gauge; name them with --metrics")
    return names


def _is_figure(column: str) -> bool:
    for kind in ("metric", "gauge"):
        try:
            parse_figures(column, kind)
        except ChainError:
            continue
        return True
    return False


def _labels(values: list[str]) -> list[bool] | list[float]:
    words = [str(value).strip().lower() for value in values]
    if all(word in ACCEPTED | REJECTED for word in words):
        return [word in ACCEPTED for word in words]
    try:
        return [float(word) for word in words]
    except ValueError:
        odd = next(w for w in words if w not in ACCEPTED | REJECTED)
        raise InputError(
            f"the label {odd!r} is neither accepted nor rejected, nor a number"
        ) from None
