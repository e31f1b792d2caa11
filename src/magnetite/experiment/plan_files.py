"""Files that a plan names: references, and files of settings."""

from __future__ import annotations

import glob
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from magnetite.core.chain.bind import bind_step
from magnetite.core.chain.step import Step
from magnetite.core.errors import ChainError, FileError, PictureError
from magnetite.core.picture.frame import Frame
from magnetite.files.resources import DiskFiles

if TYPE_CHECKING:
    from magnetite.experiment.plan import Plan

#: Frame that steps are bound to for the check of their files.
_FRAME = Frame(64, 64, 1, "gray", 8)


def reference_files(plan: Plan, folder: Path) -> list[Path]:
    """The reference pictures that a plan names, each once, in the order of their patterns."""
    found: dict[Path, None] = {}
    for pattern in plan.references.files:
        found |= dict.fromkeys(_matches(pattern, folder))
    return list(found)


def _matches(pattern: str, folder: Path) -> list[Path]:
    """Files of a pattern below a folder; a file of that very name is meant before all others."""
    if (folder / pattern).is_file():
        return [folder / pattern]
    if not glob.has_magic(pattern):
        raise FileError(f"{folder / pattern}: no such file, named in references.files")
    found = sorted(glob.glob(pattern, root_dir=folder, recursive=True))
    return [folder / name for name in found if (folder / name).is_file()]


def file_mistakes(plan: Plan, folder: Path) -> Iterator[tuple[tuple[str, ...], str]]:
    """Key and words of each pattern without a picture, and each setting's file without use."""
    for pattern in plan.references.files:
        if not _matches(pattern, folder):
            yield ("references", "files"), f"{pattern!r} finds no picture in {folder}"
    files = DiskFiles(folder)
    for key, step in _steps(plan):
        if not step.files:
            continue
        try:
            bind_step(step, _FRAME, files)
        except (FileError, ChainError, PictureError) as error:
            if any(name in str(error) for name in step.files):
                yield key, str(error)


def _steps(plan: Plan) -> Iterator[tuple[tuple[str, ...], Step]]:
    """All steps of a plan, each with its key."""
    for table in ("degradations", "treatments"):
        for name, chains in plan.chains(table).items():
            first = next((chain for chain in chains if chain is not None), None)
            for step in first.steps if first is not None else ():
                yield (table, name), step
    for key, asked in (("metrics", plan.scores.metrics), ("gauges", plan.scores.gauges)):
        for step in asked:
            yield ("scores", key), step
