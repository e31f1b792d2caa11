"""MTF50 of rendered slanted edges: coverage of its interval, short edges, clipped ones, choice."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.optimize import brentq
from scipy.special import ndtr

from magnetite.core.edges.edge_profile import OVERSAMPLING, excursion, transfer
from magnetite.core.edges.slanted_edge import Edge, measure_edge
from magnetite.core.picture import as_picture
from magnetite.core.picture.region import Region

#: Parts of a px, along each axis, at which the edge is computed.
PARTS = 8


def rendered(
    height: int, width: int, angle: float, sigma: float, off: float,
    levels: tuple[float, float] = (60, 190),
) -> np.ndarray:  # fmt: skip
    """Means over pixels of a step blurred by a Gaussian, dn of 8 bits."""
    slope = math.tan(math.radians(angle))
    y, x = ((np.arange(n * PARTS) + 0.5) / PARTS - 0.5 for n in (height, width))
    across = x - (width / 2 + off) - slope * (y[:, np.newaxis] - height / 2)
    step = ndtr(across / math.hypot(1, slope) / sigma)
    parts = levels[0] + (levels[1] - levels[0]) * step
    return np.asarray(parts.reshape(height, PARTS, width, PARTS).mean(axis=(1, 3)))


def true_mtf(f: float, angle: float, sigma: float) -> float:
    """Of a Gaussian and a square pixel, along the edge's normal."""
    cosine, sine = math.cos(math.radians(angle)), math.sin(math.radians(angle))
    gauss = math.exp(-2 * (math.pi * sigma * f) ** 2)
    return gauss * float(np.sinc(f * cosine) * np.sinc(f * sine))


@pytest.mark.parametrize("position", [60, 100, 150])
def test_a_profile_and_its_mirror_image_have_one_transfer(position: int) -> None:
    """Also where the edge is off the middle: as much is taken on both sides."""
    profile = ndtr((np.arange(200) - position) / 5)
    frequency, contrast = transfer(profile)
    mirrored = transfer(1 - profile[::-1])[1]
    np.testing.assert_allclose(contrast, mirrored, atol=1e-12)
    # A Gaussian of 5 bins, and the mean over one.
    expected = np.exp(-2 * (np.pi * 5 / OVERSAMPLING * frequency) ** 2)
    seen = contrast * np.sinc(frequency / OVERSAMPLING)
    np.testing.assert_allclose(seen[frequency < 0.3], expected[frequency < 0.3], atol=2e-3)


def true_mtf50(angle: float, sigma: float) -> float:
    return float(brentq(lambda f: true_mtf(f, angle, sigma) - 0.5, 1e-6, 1.0))


def measured(picture: np.ndarray) -> Edge:
    height, width = picture.shape
    samples = np.rint(picture).clip(0, 255).astype(np.uint8)
    return measure_edge(as_picture(samples), Region(0, 0, width, height))


def coverage(count: int, seed: int, noises: tuple[float, ...]) -> tuple[list[bool], list[float]]:
    """Whether intervals hold, and relative errors, over angles, lengths, blurs, noises."""
    rng = np.random.default_rng(seed)
    held, errors = [], []
    for _ in range(count):
        width, angle = int(rng.integers(40, 90)), float(rng.uniform(2, 14))
        longest = int(0.4 * width / math.tan(math.radians(angle)))
        height = int(rng.integers(20, min(160, max(24, longest))))
        sigma, noise = float(rng.uniform(0.3, 2.0)), rng.choice(noises)
        scene = rendered(height, width, rng.choice([-1, 1]) * angle, sigma, rng.uniform(-1, 1))
        found = measured(scene + noise * rng.standard_normal(scene.shape))
        assert found.mtf50 is not None
        assert found.mtf50_error is not None
        truth = true_mtf50(angle, sigma)
        errors.append(found.mtf50 / truth - 1)
        held.append(abs(found.mtf50 - truth) <= found.mtf50_error)
    return held, errors


def test_errors_of_the_other_figures_are_as_large_as_their_spread() -> None:
    """An edge again and again in new noise; the error of a maximum may be twice too large."""
    rng, clean = np.random.default_rng(8), rendered(60, 60, 5, 1.0, 0.1, (60, 190))
    tenth = float(brentq(lambda f: true_mtf(f, 5, 1.0) - 0.1, 1e-6, 1.0))
    found = [measured(clean + rng.standard_normal(clean.shape)) for _ in range(60)]
    t = 2.365  # of 7 degrees of freedom, 97.5 %
    for name, pairs, true in (
        ("MTF10", [(edge.mtf10, edge.mtf10_error) for edge in found], tenth),
        ("MTF at 0.25", [edge.mtf_at(0.25) for edge in found], true_mtf(0.25, 5, 1.0)),
        ("overshoot", [(excursion(e.profile), e.overshoot_error) for e in found], None),
    ):
        values, errors = np.array(pairs, float).T
        most = 1.4 if true is not None else 2.5
        assert 0.7 < np.sqrt(np.mean(errors**2)) / t / values.std() < most, name
        if true is not None:
            assert values.mean() == pytest.approx(true, abs=4 * values.std() / math.sqrt(60)), name
            assert np.mean(np.abs(values - true) <= errors) >= 0.88, name


def test_intervals_of_mtf50_hold() -> None:
    held, _ = coverage(50, 3, (0.0, 1.0, 3.0, 6.0))
    assert 0.9 <= np.mean(held) <= 1.0


@pytest.mark.long
def test_intervals_of_mtf50_hold_on_a_thousand_edges() -> None:
    held, _ = coverage(1000, 4, (0.0, 1.0, 2.0, 3.0, 4.5, 6.0))
    assert 0.93 <= np.mean(held) <= 0.98


def test_short_edges_without_noise_are_exact() -> None:
    """Also where the tangent of the angle is a quarter, and samples share their phases."""
    held, errors = coverage(60, 5, (0.0,))
    assert np.mean(held) >= 0.95
    assert max(map(abs, errors)) < 0.012
    quarter = measured(rendered(24, 60, math.degrees(math.atan(0.25)), 1.2, 0.1))
    assert quarter.mtf50 == pytest.approx(true_mtf50(math.degrees(math.atan(0.25)), 1.2), rel=0.01)


def test_clipped_edges_have_no_interval_and_a_remark() -> None:
    for levels in ((-60, 190), (60, 330)):
        found = measured(rendered(80, 60, 5, 1.2, 0.0, levels))
        assert found.clipped
        assert found.mtf50_error is None
        assert "clipped" in found.remarks[0]
    assert not measured(rendered(80, 60, 5, 1.2, 0.0)).clipped


def test_of_several_edges_the_median_one_is_taken() -> None:
    """Three fields with edges of three widths in one picture."""
    fields = [rendered(120, 100, 5, sigma, 0.0) for sigma in (0.6, 1.2, 2.0)]
    fields[1] = fields[1][:, ::-1]
    found = measure_edge(as_picture(np.rint(np.hstack(fields)).astype(np.uint8)))
    assert found.mtf50 == pytest.approx(true_mtf50(5, 1.2), rel=0.03)
