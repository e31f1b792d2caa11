"""Mutated files of every kind are read or refused, never with an error of a library."""

from __future__ import annotations

import pytest

from fuzzing import fuzz


def test_a_few_thousand_mutated_files() -> None:
    found = fuzz(900)
    assert len(found) >= 18
    assert {name: dict(faults) for name, _, faults in found if faults} == {}


@pytest.mark.long
@pytest.mark.parametrize("seed", [11, 12, 13, 14])
def test_two_hundred_thousand_mutated_files(seed: int) -> None:
    found = fuzz(50_000, seed)
    assert sum(count for _, count, _ in found) >= 49_900
    assert {name: dict(faults) for name, _, faults in found if faults} == {}
