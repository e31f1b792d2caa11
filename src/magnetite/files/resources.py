"""What settings name by file, from the disk."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from magnetite.core.arrays import Samples
from magnetite.files.reading import read_kernel
from magnetite.files.sidecar import read_json


class DiskFiles:
    """Kernels and models in files; raises `FileError` where one cannot be read."""

    def array(self, name: str) -> Samples:
        return read_kernel(name)

    def record(self, name: str) -> dict[str, Any]:
        return read_json(Path(name))
