"""Which pictures of a run are shown, and how they are made again."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from magnetite.core.chain.bind import ReadOnce
from magnetite.core.chain.notation import parse_sweep
from magnetite.core.compute.threads import each
from magnetite.core.errors import FileError, MagnetiteError
from magnetite.core.operations.certificate import Certificate
from magnetite.core.operations.degrade import KINDS, degrade
from magnetite.core.operations.treatment import Kept, treat
from magnetite.core.picture import Picture
from magnetite.experiment.plan import NOTHING
from magnetite.experiment.provenance import read_sources
from magnetite.experiment.results import RunRows
from magnetite.experiment.tasks import Cell, makers_of_both
from magnetite.files.atomic import inside
from magnetite.files.reading import read
from magnetite.files.resources import DiskFiles

#: Pictures of a page, and of one reference, besides those that the run has kept.
MOST, MOST_EACH, LEAST_EACH = 120, 16, 3


@dataclass(frozen=True)
class Shown:
    """A picture for the comparator."""

    reference: str
    #: `reference`, `degraded`, `treated` or `kept`.
    kind: str
    label: str
    detail: str
    picture: Picture = field(repr=False)
    bpp: float | None = None
    scores: dict[str, float] = field(default_factory=dict)
    #: Position of its row in the table of the run; None where it has none.
    row: int | None = None


@dataclass(frozen=True)
class Gallery:
    """Pictures of a page, certificates of their degradations, and missing pictures."""

    pictures: tuple[Shown, ...]
    certificates: tuple[Certificate, ...]
    notes: tuple[str, ...]


def gallery(rows: RunRows, facts: dict[str, str], folder: Path, keys: frozenset[str]) -> Gallery:
    """References, degraded and treated pictures of a run, made again by its plan.

    Of each degradation and each treatment the middle one of its sweep is taken, of repeats the
    first; the run's kept pictures are shown as well. A reference that is gone, or has changed, is
    left out with a note; so are pictures whose chain names a file that is not the run's. `keys`
    are those of the run's cells, which cover the content of such files.
    """
    notes: list[str] = []
    base = folder / facts.get("base", "")
    found: list[tuple[str, Picture]] = []
    for name, digest, source in read_sources(facts.get("sources", "[]"), folder):
        try:
            picture = source.load()
        except (MagnetiteError, OSError) as error:
            notes.append(f"{name}: its pictures are not shown: {error}")
            continue
        if picture.digest().hex() != digest:
            notes.append(f"{name}: its pictures are not shown: the file has changed since the run")
            continue
        found.append((name, picture))
    most = min(MOST_EACH, max(LEAST_EACH, MOST // max(1, len(found))))
    if len(found) * most > MOST:
        notes.append(f"pictures of the first {MOST // most} of {len(found)} references are shown")
        found = found[: MOST // most]
    made = each(
        lambda pair: _of_reference(*pair, rows, most, folder, base, keys, notes), found,
        name=lambda pair: str(pair[0]),
    )  # fmt: skip
    return Gallery(
        tuple(one for pictures, _ in made for one in pictures),
        tuple(one for _, certificates in made for one in certificates),
        tuple(notes),
    )


def _of_reference(
    name: str,
    picture: Picture,
    rows: RunRows,
    most: int,
    folder: Path,
    base: Path,
    keys: frozenset[str],
    notes: list[str],
) -> tuple[list[Shown], list[Certificate]]:
    """All pictures of one reference, and the certificates of its degradations."""
    shown = [Shown(name, "reference", "reference", picture.describe(), picture)]
    certificates: list[Certificate] = []
    own = rows.frame[rows.frame["reference"] == name]
    chosen = list(_chosen(own))[: most - 1]
    files = ReadOnce(DiskFiles(base))
    degraded: dict[tuple[str, int], tuple[Picture, Certificate | None, Kept]] = {}
    for row in chosen:
        key = row["degradation"], int(row["seed"])
        try:
            _check_files(row, picture, DiskFiles(base), keys)
            if key not in degraded:
                degraded[key] = *_degraded(picture, *key, files), Kept()
                certificate = degraded[key][1]
                certificates += [certificate] if certificate is not None else []
                if row["degradation"] != NOTHING:
                    bare = own[(own["degradation"] == key[0]) & (own["seed"] == key[1])
                               & (own["treatment"] == NOTHING)]  # fmt: skip
                    shown.append(Shown(
                        name, "degraded", row["degradation name"], key[0], degraded[key][0],
                        row=_position(rows, bare.index[0]) if len(bare) else None,
                    ))  # fmt: skip
            if row["treatment"] == NOTHING:
                continue
            before, certificate, kept = degraded[key]
            known = None if certificate is None else certificate.noise_sd
            chain = parse_sweep(row["treatment"], "restoration", "codec", known=True)[0]
            after = treat(before, chain, known, files, kept).picture
        except (MagnetiteError, OSError) as error:
            notes.append(f"{name}, {row['degradation name']}, {row['treatment']}: {error}")
            continue
        shown.append(_treated(name, "treated", row, rows, after))
    return [*shown, *_kept(name, own, rows, folder, notes)], certificates


def _check_files(row: Any, reference: Picture, files: DiskFiles, keys: frozenset[str]) -> None:
    """Raise `FileError` unless files that a row's chains name are those it was computed with.

    A folder can come from anyone, so that a name alone must not open a file for its page.
    """
    chains = [
        None if text == NOTHING else parse_sweep(text, *kinds, known=known)[0]
        for text, kinds, known in (
            (row["degradation"], KINDS, False),
            (row["treatment"], ("restoration", "codec"), True),
        )
    ]
    named = [name for chain in chains if chain is not None for name in chain.files]
    if not named:
        return
    cell = Cell(
        row["reference"], reference.digest().hex(), row["degradation name"], row["degradation"],
        int(row["repeat"]), int(row["seed"]), row["treatment name"], row["treatment"],
        makers_of_both(chains[0], chains[1], files),
    )  # fmt: skip
    if cell.key not in keys:
        raise FileError(f"{', '.join(named)}: not as it was when the run was computed")


def _degraded(
    picture: Picture, chain: str, seed: int, files: ReadOnce
) -> tuple[Picture, Certificate | None]:
    if chain == NOTHING:
        return picture, None
    made = degrade(picture, chain, seed=seed, files=files)
    return made.picture, made.certificate


def _treated(name: str, kind: str, row: Any, rows: RunRows, picture: Picture) -> Shown:
    """A picture of a row, with its figures."""
    scores = {figure: float(row[figure]) for figure in rows.figures if row[figure] == row[figure]}
    bpp = float(row["bpp"]) if row["bpp"] == row["bpp"] else None
    return Shown(
        name, kind, f"{row['treatment name']} after {row['degradation name']}",
        f"{row['degradation']}, then {row['treatment']}", picture, bpp, scores,
        _position(rows, row.name),
    )  # fmt: skip


def _position(rows: RunRows, label: Any) -> int:
    """Position of a row in the whole table, by its label."""
    return int(rows.frame.index.get_loc(label))


def _chosen(own: Any) -> Iterator[Any]:
    """Rows whose pictures are shown: the middle of every sweep, degradation by degradation."""
    first = own[own["repeat"] == 0]
    for _, by_degradation in first.groupby("degradation name", sort=False):
        chains = by_degradation["degradation"].unique().tolist()
        middle = by_degradation[by_degradation["degradation"] == chains[len(chains) // 2]]
        for _, by_treatment in middle.groupby("treatment name", sort=False):
            yield by_treatment.iloc[len(by_treatment) // 2]


def _kept(name: str, own: Any, rows: RunRows, folder: Path, notes: list[str]) -> Iterator[Shown]:
    """Pictures that the run itself has kept."""
    for _, row in own[own["picture"].notna()].iterrows():
        try:
            picture = read(inside(folder, row["picture"]))
        except (MagnetiteError, OSError) as error:
            notes.append(f"{name}: a kept picture is not shown: {error}")
            continue
        yield _treated(name, "kept", row, rows, picture)
