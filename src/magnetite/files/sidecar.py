"""JSON files that stand beside pictures."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from magnetite.files.atomic import write_bytes


def certificate_path(picture: Path) -> Path:
    """`tile.png` has its certificate in `tile.png.cert.json`."""
    return picture.with_name(picture.name + ".cert.json")


def write_json(path: Path, content: dict[str, Any]) -> None:
    """Write plain values as JSON, whole or not at all."""
    text = json.dumps(content, indent=2, ensure_ascii=False, allow_nan=False)
    write_bytes(path, f"{text}\n".encode())
