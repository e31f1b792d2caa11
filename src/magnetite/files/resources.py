"""Files that settings name, from the disk."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path
from typing import Any

from magnetite.core.arrays import Samples
from magnetite.core.errors import FileError
from magnetite.files.opening import read_bytes
from magnetite.files.reading import read_kernel
from magnetite.files.sidecar import read_json

#: Digest of a file that cannot be read.
MISSING = "missing"


class DiskFiles:
    """Kernels and models in files; raises `FileError` where one cannot be read.

    Relative names are those of files below `base`.
    """

    def __init__(self, base: str | os.PathLike[str] = "") -> None:
        self._base = Path(base)

    def array(self, name: str) -> Samples:
        return read_kernel(self._base / name)

    def record(self, name: str) -> dict[str, Any]:
        return read_json(self._base / name)

    def digest(self, name: str) -> str:
        """SHA-256 of a file's bytes in hexadecimal; `MISSING` where it cannot be read."""
        try:
            return hashlib.sha256(read_bytes(self._base / name)).hexdigest()
        except FileError:  # steps that need it fail, with their own message
            return MISSING
