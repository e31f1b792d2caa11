"""Information-weighted and feature similarity against slow direct definitions."""

from __future__ import annotations

import numpy as np
import pytest

from conftest import pair
from magnetite.core.metrics.phase import fsim, phase_congruency
from magnetite.core.metrics.weighting import information, iw_ssim, laplacian_pyramid
from slow_features import slow_fsim


def test_iw_ssim_is_its_definition() -> None:
    x, _ = pair(177, 184)
    assert iw_ssim(x, x, 255) == pytest.approx(1, abs=1e-12)
    for level in (2, 90):
        flat, other = np.full((180, 180), float(level)), level + 3
        assert iw_ssim(flat, flat + 3, 255) == pytest.approx(
            ((2 * level * other + 6.5025) / (level**2 + other**2 + 6.5025)) ** 0.1333, rel=1e-9
        )


def test_information_is_found_where_the_reference_has_texture() -> None:
    x = np.full((180, 200), 100.0)
    x[:, 100:] += 40 * pair(180, 100)[0] / 255
    band = laplacian_pyramid(x, 2)[0]
    bits = information(band, band + np.random.default_rng(1).normal(0, 1, band.shape), None)
    assert bits[:, 110:].mean() > 2 * bits[:, :90].mean()


def test_fsim_is_its_definition() -> None:
    x, y = pair(61, 72)
    # The definition has no small constant in the mean phase; ours keeps it from 0 / 0.
    assert fsim(x, y, 255) == pytest.approx(slow_fsim(x, y), rel=1e-5)
    assert fsim(x, x, 255) == pytest.approx(1, abs=1e-12)
    small = x[:32, :36]
    big = np.kron(small, np.ones((12, 12)))
    assert fsim(big, big + 9, 255) == pytest.approx(fsim(small, small + 9, 255), rel=0.02)


def test_phase_congruency_tells_an_edge_whatever_its_height() -> None:
    edge = np.zeros((64, 96))
    edge[:, 32:64] = 1
    low, high = phase_congruency(20 * edge), phase_congruency(200 * edge)
    np.testing.assert_allclose(low, high, atol=1e-3)
    assert high[32, 31] > 0.7
    assert high[32, 16] < 0.3 * high[32, 31]
