"""Labelled pictures: a table of figures, and the labels of its pictures."""

from __future__ import annotations

import io
import math
import re
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pandas as pd

from magnetite.core.errors import ChainError, FileError, InputError, PictureError
from magnetite.core.operations.selection import selected
from magnetite.core.quantities import abbreviated, read_number
from magnetite.files.opening import read_text

ACCEPTED = {"accepted", "accept", "good", "pass", "yes", "true", "1"}
REJECTED = {"rejected", "reject", "bad", "fail", "no", "false", "0"}
#: Labels of pictures that nobody has judged, as other programs write them.
_NO_LABEL = {"NA", "N/A", "n/a", "NaN", "nan", "null", "NULL", "None"}
#: Figures and scores are at most this large, so that sums of their squares stay finite.
_LARGEST = 1e100
#: Columns that name a picture in the tables of score, gauge and run.
_PICTURES = ("test", "picture", "reference")
#: Column of the same tables for the part of a picture that its figures are of.
_PART = "measured part"


@dataclass(frozen=True)
class Labelled:
    """Figures of pictures, their labels, and the references that they come from."""

    figures: dict[str, list[float]]
    #: True for accepted; or scores.
    labels: list[bool] | list[float]
    groups: list[str]
    #: Names of the pictures, and size, colour and depth of each where these are known.
    pictures: list[str] = field(default_factory=list)
    frames: list[str] = field(default_factory=list)
    remarks: tuple[str, ...] = ()

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
        If a column is missing, a label is neither a class nor a number, or the figures are of parts
        of the pictures.
    """
    table = _read(path)
    _check_whole(table, path)
    column = label
    remarks: list[str] = []
    if labels is not None:
        table, column = _joined(table, _read(labels), label, path, labels)
    if column is None:
        raise InputError(f"{path}: name the column of the labels, as in --label verdict")
    if column not in table:
        raise InputError(f"{path}: has no column {column!r}; it has: {', '.join(table.columns)}")
    if "status" in table:
        table = table[table["status"] == "done"]
    table = table.assign(**{column: table[column].mask(table[column].isin(_NO_LABEL))})
    if without := int(table[column].isna().sum()):
        remarks.append(f"{without} of {len(table)} pictures left out, without a label")
    table = table[table[column].notna()]
    names = _figures(table, metrics, column, path)
    groups = group or next((c for c in ("reference", *_PICTURES) if c in table), None)
    if groups not in table:
        raise InputError(f"{path}: has no column {groups!r} that names the references")
    own = table[groups].astype(str).tolist()
    if group is None and groups != "reference":
        remarks.append(_own_references(own, "name its column, as in --group scene"))
    figures = {
        name: [value if abs(value) <= _LARGEST else math.nan
               for value in pd.to_numeric(table[name], errors="coerce").tolist()]
        for name in names
    }  # fmt: skip
    name = next((c for c in _PICTURES if c in table), groups)
    return Labelled(
        figures, _labels(table[column].tolist()), own,
        table[name].astype(str).tolist(), remarks=tuple(remarks),
    )  # fmt: skip


def gauge_folders(
    accepted: Path, rejected: Path, gauges: str, group: str | None = None
) -> Labelled:
    """Gauges of all pictures in two folders, which are the labels.

    Parameters
    ----------
    accepted, rejected : Path
        Folders.
    gauges : str
    group : str, optional
        Regular expression that finds the reference of a picture in its name without ending: its
        first group, or all that it matches. Left out, each picture is its own reference.

    Raises
    ------
    InputError
        If the expression cannot be read or does not match a name, or both folders hold a picture.
    """
    from magnetite import gauge
    from magnetite.files.pairs import pictures_in
    from magnetite.files.reading import read

    steps = [str(step) for step in selected(gauges, "gauge")]
    figures: dict[str, list[float]] = {name: [] for name in steps}
    labels, groups, pictures, frames = [], [], [], []
    pattern = _pattern(group)
    first: dict[bytes, tuple[Path, bool]] = {}
    copies: list[str] = []
    for folder, label in ((accepted, True), (rejected, False)):
        for path in pictures_in(folder):
            picture = read(path)
            known, other = first.setdefault(picture.digest(), (path, label))
            if other != label:
                raise InputError(f"{known} and {path} hold the same samples, under both labels")
            if known != path:
                copies.append(f"{path} of {known}")
                continue
            found = gauge(picture, gauges, strict=False)
            for name in steps:
                figures[name].append(found.get(name, float("nan")))
            labels.append(label)
            groups.append(_group_of(path.stem, pattern))
            pictures.append(str(path))
            frames.append(picture.describe())
    if not labels:
        raise PictureError(f"{accepted} and {rejected} hold no pictures")
    remarks = []
    if copies:
        remarks.append(f"copies of other pictures left out: {abbreviated(copies)}")
    if group is None:
        remarks.append(_own_references(groups, "name it by a pattern, as in --group '^[a-z]+'"))
    return Labelled(figures, labels, groups, pictures, frames, tuple(remarks))


def _own_references(names: list[str], remedy: str) -> str:
    """Remark where nothing says which pictures come from one reference."""
    return (
        f"each of the {len(set(names))} names counts as a reference of its own; where several "
        f"pictures come from one, {remedy}"
    )


def _pattern(group: str | None) -> re.Pattern[str] | None:
    if group is None:
        return None
    try:
        return re.compile(group)
    except re.error as error:
        raise InputError(f"--group {group!r}: is not a regular expression ({error})") from None


def _group_of(stem: str, pattern: re.Pattern[str] | None) -> str:
    if pattern is None:
        return stem
    found = pattern.search(stem)
    if found is None:
        raise InputError(f"--group {pattern.pattern!r}: does not match the name {stem!r}")
    return found[1] if pattern.groups and found[1] is not None else found[0]


def _read(path: Path) -> Any:
    text = read_text(path)
    try:
        # A picture may be called NA or null: only an empty cell has no value.
        return pd.read_csv(io.StringIO(text), dtype=str, keep_default_na=False, na_values=[""])
    except ValueError as error:
        raise FileError(f"{path}: is not a CSV table ({str(error).splitlines()[0]})") from None


def _check_whole(table: Any, path: Path) -> None:
    """Raise `InputError` for figures of parts of pictures: a gate measures whole ones."""
    parts = table[_PART].dropna().tolist() if _PART in table else []
    if parts:
        raise InputError(
            f"{path}: figures of a part of the pictures ({parts[0]}), and a gate measures whole "
            "pictures: measure whole pictures for its fit"
        )


def _joined(
    table: Any, labels: Any, label: str | None, path: Path, labels_path: Path
) -> tuple[Any, str]:
    """The table with the labels of another, joined by the pictures' paths.

    A path fits another that ends with it, folder by folder: `a/p.png` fits `set/a/p.png`.

    Raises
    ------
    InputError
        If a column is missing, no label fits, or one fits several pictures.
    """
    column = label or labels.columns[-1]
    keys = [c for c in labels.columns if c != column]
    name = next((c for c in _PICTURES if c in table), None)
    if column not in labels or not keys or name is None:
        raise InputError(
            "the labels are a table with a column of pictures and one of labels, and the first "
            "table names its pictures in a column test or picture"
        )
    by_name: dict[str, dict[tuple[str, ...], Any]] = {}
    for text, value in zip(labels[keys[0]], labels[column], strict=True):
        parts = Path(str(text)).parts
        alike = by_name.setdefault(parts[-1] if parts else "", {})
        if parts in alike and alike[parts] != value:
            raise InputError(f"{labels_path}: {text} has two labels: {alike[parts]} and {value}")
        alike[parts] = value
    names = set(table[name].dropna())
    found = {text: _label_of(text, by_name, path, labels_path) for text in names}
    used: dict[tuple[str, ...], str] = {}
    for text, (own, _) in found.items():
        if own is not None and used.setdefault(own, text) != text:
            raise InputError(
                f"{labels_path}: the label of {'/'.join(own)} fits both {used[own]} and "
                f"{text} of {path}: name the pictures with their folders"
            )
    if not used:
        raise InputError(f"none of the labels is of a picture of the table: see {keys[0]}, {name}")
    return table.assign(
        **{column: table[name].map({text: label for text, (_, label) in found.items()})}
    ), str(column)


def _label_of(
    text: str, by_name: dict[str, dict[tuple[str, ...], Any]], path: Path, labels_path: Path
) -> tuple[tuple[str, ...] | None, Any]:
    """The labelled path that fits a picture's, the longest first, and its label."""
    parts = Path(text).parts
    fitting = [own for own in by_name.get(parts[-1] if parts else "", {}) if _fits(own, parts)]
    if not fitting:
        return None, None
    best = max(min(len(own), len(parts)) for own in fitting)
    nearest = [own for own in fitting if min(len(own), len(parts)) == best]
    if parts in nearest:
        nearest = [parts]
    if len(nearest) > 1:
        raise InputError(
            f"{labels_path}: {len(nearest)} labels fit {text} of {path}: name the pictures with "
            "the same folders in both tables"
        )
    return nearest[0], by_name[parts[-1]][nearest[0]]


def _fits(one: tuple[str, ...], two: tuple[str, ...]) -> bool:
    """Whether the shorter path is the end of the longer one."""
    count = min(len(one), len(two))
    return one[-count:] == two[-count:]


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
            selected(column, kind)
        except ChainError:
            continue
        return True
    return False


def _labels(values: list[str]) -> list[bool] | list[float]:
    words = [str(value).strip().lower() for value in values]
    if all(word in ACCEPTED | REJECTED for word in words):
        return [word in ACCEPTED for word in words]
    try:
        scores = [read_number(word) for word in words]
    except ValueError:
        classes = ACCEPTED | REJECTED
        odd = next((w for w in words if w not in classes and not _is_number(w)), None)
        if odd is None:
            one = next(w for w in words if not _is_number(w))
            raise InputError(f"the labels are numbers and classes, such as {one!r}") from None
        raise InputError(
            f"the label {odd!r} is neither accepted nor rejected, nor a finite number"
        ) from None
    if max(map(abs, scores)) > _LARGEST:
        raise InputError(f"a score of {max(scores, key=abs):g} is too large to be one")
    return scores


def _is_number(word: str) -> bool:
    try:
        read_number(word)
    except ValueError:
        return False
    return True
