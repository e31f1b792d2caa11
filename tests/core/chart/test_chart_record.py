"""Records of charts that are damaged."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import pytest

from conftest import drawn_chart
from magnetite.core.chart.falloff import Falloff
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


@pytest.mark.long
def test_leaves_have_the_statistics_of_their_model() -> None:
    """Radii fall as r^-3, light is uniform, and the spectrum of the field falls as a power law."""
    from magnetite.core.chart.leaves import scatter

    leaves = scatter(10.0, 20.0, 300.0, 7)
    x, y, radius, light = leaves.disks.T
    assert ((x + radius > 10) & (x - radius < 310) & (y + radius > 20) & (y - radius < 320)).all()
    assert 1.5 <= radius.min() < radius.max() <= 45
    # Of the leaves on top nothing is hidden, so the first are drawn from the model itself: the
    # share of radii above r is (r0 / r)².
    first = radius[:150]
    for r in (2.0, 3.0, 5.0):
        share = (1.5 / r) ** 2
        assert np.mean(first > r) == pytest.approx(share, abs=3.5 * (share / 150) ** 0.5)
    assert light.min() >= 0.1
    assert light.max() <= 0.7
    assert light.mean() == pytest.approx(0.4, abs=0.02)
    field = leaves.raster()
    bare = len(field) ** 2 - np.count_nonzero(np.isin(field, np.unique(light)))
    assert bare <= 1.2e-3 * field.size
    small = [scatter(0.0, 0.0, 60.0, seed).disks for seed in (7, 7, 8)]
    assert np.array_equal(small[0], small[1])
    assert not np.array_equal(small[0][:5], small[2][:5])


def test_the_fall_off_is_that_of_its_formula() -> None:
    falloff = Falloff(np.array([0.0, 0.0, -0.2, -0.05]), 640, 480, np.zeros((4, 4)))
    assert falloff.corners is not None
    assert falloff.corners.value == pytest.approx(25)
    assert falloff.at(np.array([320.0, 240.0])) == 1
