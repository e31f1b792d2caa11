"""Provenance of a run: its references, the program, the machine, the time."""

from __future__ import annotations

import hashlib
import json
import os
import platform
from collections.abc import Sequence
from datetime import UTC, datetime
from importlib.metadata import version
from importlib.resources import files
from importlib.resources.abc import Traversable
from pathlib import Path

from magnetite import __version__
from magnetite.core.chain.notation import parse_chain
from magnetite.core.compute.threads import cores
from magnetite.core.errors import FileError
from magnetite.experiment.tasks import Reference, Source

#: Packages whose versions may change a figure in its last digits.
_PACKAGES = ("numpy", "scipy", "numba", "imagecodecs", "pillow")


def now() -> str:
    """The time in UTC, to the second (ISO 8601)."""
    return datetime.now(UTC).isoformat(timespec="seconds")


def machine() -> dict[str, str]:
    """Names and versions of program, packages and machine."""
    made = {"Magnetite": __version__, "Python": platform.python_version()}
    made |= {name: version(name) for name in _PACKAGES}
    made["system"] = f"{platform.system()} {platform.machine()}"
    made["cores"] = str(cores())
    return made


def code_digest() -> str:
    """SHA-256 over names and bytes of all installed Python files of the program."""
    content = hashlib.sha256()
    for name, entry in sorted(_modules(files("magnetite"), "")):
        content.update(name.encode() + b"\0" + hashlib.sha256(entry.read_bytes()).digest())
    return content.hexdigest()


def _modules(folder: Traversable, prefix: str) -> list[tuple[str, Traversable]]:
    found = []
    for entry in folder.iterdir():
        if entry.is_dir():
            found += _modules(entry, f"{prefix}{entry.name}/")
        elif entry.name.endswith(".py"):
            found.append((f"{prefix}{entry.name}", entry))
    return found


def sources_text(references: Sequence[Reference], folder: Path) -> str:
    """The references with their digests as JSON; their files relative to the run's folder."""
    base = os.path.abspath(folder)
    return json.dumps([
        {
            "name": one.facts.name, "digest": one.facts.digest,
            "path": os.path.relpath(one.source.path, base),
            "convert": None if one.source.convert is None else str(one.source.convert),
            "full_scale": one.source.full_scale,
        }
        for one in references
    ])  # fmt: skip


def read_sources(text: str, folder: Path) -> list[tuple[str, str, Source]]:
    """Name, digest and source of each reference of a run.

    Raises
    ------
    FileError
        If the text is not of the form of `sources_text`.
    """
    found = []
    try:
        for entry in json.loads(text):
            name, digest = entry.pop("name"), entry.pop("digest")
            entry["path"] = os.path.normpath(os.path.join(os.path.abspath(folder), entry["path"]))
            if entry["convert"] is not None:
                entry["convert"] = parse_chain(entry["convert"], "conversion")
            source = Source(**entry)
            if not (isinstance(name, str) and isinstance(digest, str)):
                raise TypeError("a name is not text")
            found.append((name, digest, source))
    except (ValueError, TypeError, KeyError, AttributeError, RecursionError) as error:
        raise FileError(f"{folder}: the ledger's list of references is damaged ({error})") from None
    return found
