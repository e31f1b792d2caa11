"""A chart's record, and a measured camera as files: a chain with a name, and its tone curve."""

from __future__ import annotations

import json
import re
from pathlib import Path

from magnetite.core.chart.camera import Camera
from magnetite.core.chart.design import Chart
from magnetite.core.chart.record import of_record
from magnetite.core.errors import FileError, InputError
from magnetite.files.atomic import check_writable, write_bytes
from magnetite.files.sidecar import read_json
from magnetite.files.tables import csv_text


def check_camera_path(path: Path) -> None:
    """Raise `FileError` early if a camera cannot be written there."""
    if path.suffix.lower() != ".toml" or re.search(r"\s", path.stem):
        raise FileError(f"{path}: a camera is a .toml file without blanks in its name")
    check_writable(path)


def write_camera(camera: Camera, path: Path, summary: str) -> str:
    """Write the chain, named after its file, and a CSV file of the points of its tone curve.

    Returns
    -------
    str
        The name of the chain.

    Raises
    ------
    FileError
        If a file cannot be written.
    """
    name = re.sub(r"[^a-z0-9]+", "-", path.stem.lower()).strip("-")
    name = name if name[:1].isalpha() else f"camera-{name}".rstrip("-")
    if camera.curve is not None:
        rows = [[float(f"{v:.6g}") for v in row] for row in camera.curve]
        write_bytes(path.with_name(f"{path.stem}-tone.csv"), csv_text(None, rows).encode())
    steps = camera.steps.replace("points=", "points={here}/")
    # A JSON string is a TOML string too.
    words = (json.dumps(text, ensure_ascii=False) for text in (summary, steps))
    text = "[chain.{}]\nsummary = {}\nsteps = {}\n".format(name, *words)
    write_bytes(path, text.encode())
    return name


def read_chart(path: Path) -> Chart:
    """The record of a chart; raises `InputError` where the file is none."""
    record = read_json(path)
    try:
        return of_record(record)
    except InputError as error:
        raise InputError(f"{path}: {error}") from None
