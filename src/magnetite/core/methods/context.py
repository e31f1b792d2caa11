"""Context of the values of settings: the picture's scale, and readers of files."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from magnetite.core.arrays import Samples


class Files(Protocol):
    """Reads files that settings name; the core opens none itself."""

    def array(self, name: str) -> Samples:
        """Two-dimensional array of a file."""
        ...

    def record(self, name: str) -> dict[str, Any]:
        """JSON object of a file."""
        ...


class NoFiles:
    """Where nothing reads files."""

    def array(self, name: str) -> Samples:
        raise ValueError(f"{name} cannot be read: nothing reads files here")

    def record(self, name: str) -> dict[str, Any]:
        raise ValueError(f"{name} cannot be read: nothing reads files here")


@dataclass(frozen=True)
class Context:
    """Context of a value: the picture's scale, the step's other settings, files.

    `full_scale` is the picture's largest digital number, or None for a float picture.
    """

    full_scale: float | None
    settings: Mapping[str, Any] = field(default_factory=dict)
    files: Files = field(default_factory=NoFiles)
