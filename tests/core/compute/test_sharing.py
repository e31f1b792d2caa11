"""Results that metrics share: what is known again, and that memory comes back."""

from __future__ import annotations

import numpy as np
import pytest

from magnetite.core.compute.basis import cosines
from magnetite.core.compute.sharing import Sharing, shared

calls: list[tuple[int, float]] = []


def scaled(plane: np.ndarray, by: float = 1.0, weights: object = None) -> np.ndarray:
    calls.append((id(plane), by))
    return plane * by


def test_results_are_known_by_function_settings_and_sources() -> None:
    one, two = np.ones(8), np.ones(8)
    calls.clear()
    with Sharing().open():
        for _ in range(3):
            shared(scaled, one, by=2.0)
            shared(scaled, one, by=3.0)
            shared(scaled, two, by=2.0)
            shared(scaled, one, by=2.0, weights=np.array([1.0, 2.0]))
            shared(scaled, one, by=2.0, weights=np.array([1.0, 3.0]))
    assert len(calls) == 5
    assert shared(scaled, one, by=2.0)[0] == 2
    assert len(calls) == 6


def test_room_comes_back_with_each_test_picture() -> None:
    """As many pictures as one likes pass, and each is computed once."""
    calls.clear()
    reference = np.ones(100)
    sharing = Sharing(room=2 * reference.nbytes)
    for _ in range(5):
        test = np.zeros(100)
        sharing.passing(test)
        with sharing.open():
            for plane in (reference, test, test):
                shared(scaled, plane)
        sharing.forget()
    assert len(calls) == 1 + 5


def test_results_beyond_the_room_are_computed_again() -> None:
    calls.clear()
    plane = np.ones(100)
    with Sharing(room=plane.nbytes - 1).open():
        for _ in range(3):
            shared(scaled, plane)
    assert len(calls) == 3


def test_bases_that_are_kept_cannot_be_changed() -> None:
    with pytest.raises(ValueError, match="read-only"):
        cosines(8)[0, 0] = 1
    assert cosines(8) is cosines(8)
    np.testing.assert_allclose(cosines(8) @ cosines(8).T, np.eye(8), atol=1e-12)
