"""The record of a chart: positions and light of all elements, as plain values for JSON."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Mapping
from typing import Any, TypeVar

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.chart.design import (
    LEAST_CELL,
    MOST_SAMPLES,
    Chart,
    Dot,
    Mark,
    Patch,
    Square,
    Star,
)
from magnetite.core.chart.leaves import OVERSAMPLING, Leaves
from magnetite.core.errors import InputError
from magnetite.core.metrics.colour import lab_of_light

KIND = "magnetite chart"
_UNITS = (
    "px from the top left corner of the picture, the centre of the first px at 0.5, 0.5; light is "
    "linear, 1 for white; colours are linear sRGB and CIELAB of white D65; angles are degrees, "
    "clockwise"
)
#: Smallest lengths and lights that are not 0.
_LEAST = 1e-6
_MOST_ELEMENTS, _MOST_LEAVES = 10_000, 200_000
_LISTS = {"marks": Mark, "dots": Dot, "squares": Square, "steps": Patch, "colours": Patch}
_Element = TypeVar("_Element")


def as_record(chart: Chart) -> dict[str, Any]:
    """The chart as plain values for JSON."""
    record: dict[str, Any] = {"kind": KIND, "version": 1, "units": _UNITS}
    for field in dataclasses.fields(chart):
        value = getattr(chart, field.name)
        if field.name in _LISTS:
            record[field.name] = [dataclasses.asdict(element) for element in value]
        elif field.name == "leaves":
            rows = [list(map(float, disk)) for disk in value.disks]
            record["leaves"] = dataclasses.asdict(value) | {
                "disks": rows, "columns": ["x", "y", "radius", "light"],
            }  # fmt: skip
        else:
            record[field.name] = dataclasses.asdict(value) if field.name == "star" else value
    for colour in record["colours"]:
        colour["lab"] = [round(float(v), 4) for v in lab_of_light(np.array(colour["light"]))]
    return record


def of_record(record: Mapping[str, Any]) -> Chart:
    """Read a record of `as_record`.

    Raises
    ------
    InputError
        If it is not the record of a chart, or a value is missing or out of range.
    """
    if record.get("kind") != KIND or record.get("version") != 1:
        raise InputError("not the record of a chart: it is written by magnetite chart")
    width, height = (_whole(record, key) for key in ("width", "height"))
    if not 0 < width * height <= MOST_SAMPLES:
        raise InputError(f"the chart has {width}x{height} px: at most 100 million are read")
    size = float(width), float(height)
    elements: dict[str, Any] = {
        key: _elements(record, key, kind, size) for key, kind in _LISTS.items()
    }
    if len(elements["marks"]) != 5 or len(elements["steps"]) < 4:
        raise InputError("the chart has five marks and at least four gray steps")
    cell, background = (_number(record, key) for key in ("cell", "background"))
    if not LEAST_CELL <= cell <= max(size):
        raise InputError(f"cell is {cell:g}: it is at least {LEAST_CELL} px, and within the chart")
    if not _LEAST <= background <= 1:
        raise InputError(f"background is {background:g}: it is above 0, and at most 1")
    return Chart(
        width, height, _whole(record, "seed"), cell, background,
        star=_element(record.get("star"), Star, "star", size), leaves=_leaves(record), **elements,
    )  # fmt: skip


def _elements(
    record: Mapping[str, Any], key: str, kind: type[_Element], size: tuple[float, float]
) -> tuple[_Element, ...]:
    entries = record.get(key)
    if not isinstance(entries, list) or not 0 < len(entries) <= _MOST_ELEMENTS:
        raise InputError(f"{key} is missing, empty or not a list")
    return tuple(_element(entry, kind, f"{key}[{k}]", size) for k, entry in enumerate(entries))


def _element(entry: Any, kind: type[_Element], where: str, size: tuple[float, float]) -> _Element:
    if not isinstance(entry, dict):
        raise InputError(f"{where} is missing or not an object")
    values: dict[str, Any] = {}
    for field in dataclasses.fields(kind):  # type: ignore[arg-type]
        if field.type == "int":
            values[field.name] = _whole(entry, field.name, where)
        elif field.name == "light" and kind is Patch:
            light = entry.get("light")
            if not isinstance(light, list) or len(light) != 3:
                raise InputError(f"{where}.light must be a list of three numbers")
            values["light"] = tuple(_number({"light": v}, "light", where) for v in light)
        else:
            values[field.name] = _number(entry, field.name, where)
    for name, value in values.items():
        most = {"x": size[0], "y": size[1], "angle": 360.0}.get(name, max(size))
        least = 0.0 if name in ("x", "y", "light", "angle", "amplitude") else _LEAST
        every = value if isinstance(value, tuple) else (abs(value) if name == "angle" else value,)
        if not all(least <= v <= most for v in every):
            raise InputError(f"{where}.{name} is {value}: it is {least:g} to {most:g}")
    return kind(**values)


def _leaves(record: Mapping[str, Any]) -> Leaves:
    entry = record.get("leaves")
    if not isinstance(entry, dict) or not isinstance(entry.get("disks"), list):
        raise InputError("leaves is missing, or has no disks")
    left, top, size = (_number(entry, key, "leaves") for key in ("left", "top", "size"))
    if not 1 <= size <= math.sqrt(MOST_SAMPLES) / OVERSAMPLING:
        raise InputError(f"leaves.size is {size:g}: it is 1 to 1250 px")
    try:
        disks: Float64 = np.array(entry["disks"], np.float64)
    except (ValueError, TypeError):
        disks = np.empty(0)
    if disks.ndim != 2 or disks.shape[1] != 4 or not np.isfinite(disks).all():
        raise InputError("leaves.disks must be a list of x, y, radius and light")
    if len(disks) > _MOST_LEAVES:
        raise InputError(f"leaves.disks has {len(disks)} entries: at most {_MOST_LEAVES} are read")
    return Leaves(left, top, size, disks)


def _number(entry: Mapping[str, Any], key: str, where: str = "") -> float:
    value = entry.get(key)
    if isinstance(value, bool) or not isinstance(value, int | float) or not abs(value) < 1e9:
        raise InputError(f"{where}{'.' if where else ''}{key} is missing or not a number below 1e9")
    return float(value)


def _whole(entry: Mapping[str, Any], key: str, where: str = "") -> int:
    value = _number(entry, key, where)
    if value != int(value) or value < 0:
        raise InputError(f"{where}{'.' if where else ''}{key} is {value:g}: it is a whole number")
    return int(value)
