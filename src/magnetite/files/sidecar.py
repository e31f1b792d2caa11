"""JSON files that stand beside pictures."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from magnetite.core.errors import FileError
from magnetite.files.atomic import write_bytes


def certificate_path(picture: Path) -> Path:
    """`tile.png` has its certificate in `tile.png.cert.json`."""
    return picture.with_name(picture.name + ".cert.json")


def read_json(path: Path) -> dict[str, Any]:
    """Read a JSON object; raises `FileError` if the file is missing or holds anything else."""
    try:
        content = json.loads(path.read_bytes())
    except OSError as error:
        raise FileError(f"{path}: cannot be read ({error.strerror})") from None
    except ValueError as error:
        raise FileError(f"{path}: is no JSON ({error})") from None
    if not isinstance(content, dict):
        raise FileError(f"{path}: holds no JSON object")
    return content


def write_json(path: Path, content: dict[str, Any]) -> None:
    """Write plain values as JSON, whole or not at all."""
    text = json.dumps(content, indent=2, ensure_ascii=False, allow_nan=False)
    write_bytes(path, f"{text}\n".encode())
