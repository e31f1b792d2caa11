"""Records of charts that are damaged."""

from __future__ import annotations

import json
from typing import Any

import pytest

from conftest import drawn_chart
from magnetite.core.chart.record import as_record, of_record
from magnetite.core.errors import InputError


@pytest.fixture(scope="module")
def record() -> dict[str, Any]:
    return json.loads(json.dumps(as_record(drawn_chart(2)[1])))


@pytest.mark.parametrize(
    ("damage", "words"),
    [
        ({"kind": "gate"}, "not the record of a chart"),
        ({"width": -3}, "width is -3"),
        ({"width": 10**8}, "at most 100 million"),
        ({"width": 1.5}, "width is 1.5"),
        ({"marks": []}, "marks is missing, empty"),
        ({"marks": [{"x": 1}] * 5}, r"marks\[0\].y is missing"),
        ({"dots": [3]}, r"dots\[0\] is missing or not an object"),
        ({"dots": [{"x": True, "y": 1, "radius": 1}]}, r"dots\[0\].x is missing"),
        ({"cell": 1e-9}, "at least 60"),
        ({"star": None}, "star is missing"),
        ({"steps": [{"x": 1, "y": 1, "side": 3, "light": [1, 1, 1]}] * 3}, "four gray steps"),
        ({"steps": [{"x": 1, "y": 1, "side": 3, "light": [1, 1]}] * 9}, "a list of three numbers"),
        ({"leaves": {"left": 0, "top": 0, "size": 1e6, "disks": []}}, "leaves.size"),
        ({"leaves": {"left": 0, "top": 0, "size": 300, "disks": [[1, 2]]}}, "leaves.disks"),
        ({"leaves": {"left": 0, "top": 0, "size": 300, "disks": "abc"}}, "has no disks"),
    ],
)
def test_damaged_records_are_refused(record: dict[str, Any], damage: Any, words: str) -> None:
    with pytest.raises(InputError, match=words):
        of_record({**record, **damage})
