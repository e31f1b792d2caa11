"""The numerics under the methods: search, line fits, kernels, the compiled loop of SSIM."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import magnetite
from conftest import arguments, texture
from magnetite.core.calibrate.fitting import Estimate, fit_line
from magnetite.core.chain.notation import parse_chain
from magnetite.core.compute.psf import crossing, gaussian, shape_of
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.edges.edge_search import candidates
from magnetite.core.errors import TargetError
from magnetite.core.methods.catalogue import every
from magnetite.core.metrics._ssim_terms import similarity, term_map
from magnetite.core.metrics.kernels.moment_bands import moments
from magnetite.core.metrics.kernels.moments import window_mean, window_moments
from magnetite.core.metrics.kernels.ssim_bands import summed_similarity
from magnetite.core.operations.aim import Target, solve_chain
from magnetite.core.picture import Picture, as_picture
from magnetite.core.solve.bracket import MOST_TRIES


@pytest.mark.parametrize("height", [11, 12, 42, 43, 74, 75, 107])
@pytest.mark.parametrize("width", [11, 13, 265, 266, 267, 530])
def test_the_compiled_loop_is_right_at_every_border_of_its_tiles(height: int, width: int) -> None:
    rng = np.random.default_rng(height * width)
    x, y = rng.random((2, height, width))
    weights = gaussian_kernel(1.5, 5)
    slow = window_moments(x, y, weights)
    expected = float(term_map(similarity, slow, 1e-4, 9e-4).mean())
    total, count = summed_similarity(x, y, weights, 1e-4, 9e-4)
    assert total / count == pytest.approx(expected, abs=1e-7)  # in float32
    for size in (weights.size, 2, 9):
        weights = rng.random(size)
        weights /= weights.sum()
        slow, offset = window_moments(x, y, weights), x.mean()
        fast = moments(x - offset, y - offset, weights, offset)
        np.testing.assert_allclose(fast, np.array(slow), rtol=1e-12, atol=1e-12)


@given(
    height=st.integers(1, 30), width=st.integers(1, 30), size=st.integers(1, 9),
    seed=st.integers(0, 9),
)  # fmt: skip
def test_window_means_are_weighted_sums(height: int, width: int, size: int, seed: int) -> None:
    if min(height, width) < size:
        return
    rng = np.random.default_rng(seed)
    plane, weights = rng.random((height, width)), rng.random(size)
    windows = np.lib.stride_tricks.sliding_window_view(plane, (size, size))
    expected = np.einsum("ijkl,k,l->ij", windows, weights, weights)
    np.testing.assert_allclose(window_mean(plane, weights), expected, rtol=1e-12)


@given(
    slope=st.floats(-5, 5), intercept=st.floats(-100, 100), unit=st.sampled_from([1e-6, 1.0, 1e9])
)
def test_exact_points_give_their_line(slope: float, intercept: float, unit: float) -> None:
    x = np.array([1.0, 2.0, 4.0, 7.0]) * unit
    line = fit_line(x, intercept + slope / unit * x, np.array([1.0, 2.0, 0.5, 1.0]))
    assert line.slope.value * unit == pytest.approx(slope, abs=1e-8)
    assert line.intercept.value == pytest.approx(intercept, abs=1e-7)
    assert line.chi_square < 1e-12


def test_errors_of_a_line_are_those_of_repeated_fits() -> None:
    rng = np.random.default_rng(4)
    x, error = np.linspace(1, 9, 12), np.linspace(0.2, 1.5, 12)
    fits = [fit_line(x, 3 + 2 * x + rng.normal(0, error), error) for _ in range(2000)]
    one = fit_line(x, 3 + 2 * x + 1e-9, error)
    assert np.std([f.slope.value for f in fits]) == pytest.approx(one.slope.error, rel=0.06)
    assert np.std([f.intercept.value for f in fits]) == pytest.approx(one.intercept.error, rel=0.06)
    both = np.cov([f.slope.value for f in fits], [f.intercept.value for f in fits])[0, 1]
    assert both == pytest.approx(one.covariance, rel=0.1)
    held = [f.slope.low < 2 < f.slope.high for f in fits]
    assert np.mean(held) > 0.94


def test_estimates_carry_their_intervals_along() -> None:
    estimate = Estimate.of(4.0, 0.5)
    assert estimate.error == pytest.approx(0.5)
    assert estimate.root().value == 2
    assert Estimate(1, -1, 3).root() == Estimate(1, 0, math.sqrt(3))
    assert estimate.under(8) == Estimate(2, 8 / estimate.high, 8 / estimate.low)
    assert Estimate(2, -1, 5).under(10) == Estimate(5, 2, math.inf)
    assert estimate.scaled(2).shifted(1).value == 9


def test_figures_of_a_gaussian_kernel() -> None:
    shape = shape_of(gaussian(5.0))
    assert shape.sum == pytest.approx(1, abs=1e-12)
    assert shape.centroid == (0, 0)
    # 2 √(2 ln 2) sigma, and √(ln 2 / 2) / (π sigma).
    assert shape.fwhm[0] == pytest.approx(2.35482 * 5, rel=2e-3)
    assert shape.mtf50[1] == pytest.approx(math.sqrt(math.log(2) / 2) / math.pi / 5, rel=1e-4)
    assert shape_of(np.ones((1, 1))).mtf50 == (None, None)
    assert shape_of(np.array([[0, 0, 1.0]])).centroid == (1, 0)


def test_a_level_is_crossed_between_two_points() -> None:
    x = np.array([0.0, 1.0, 2.0, 3.0])
    assert crossing(x, np.array([1.0, 0.8, 0.4, 0.1]), 0.5) == pytest.approx(1.75)
    assert crossing(x, np.array([1.0, 0.9, 0.8, 0.7]), 0.5) is None
    assert crossing(x, np.array([0.2, 0.9, 0.8, 0.7]), 0.5) == 0


#: Figures of a setting between 0 and 100 %, and one that a target lies on.
FIGURES: dict[str, tuple[Callable[[float], float], float]] = {
    "falling": (lambda s: -20 * math.log10(s), 33.0),
    "steep": (lambda s: s**4, 1e-9),
    "rising to a peak": (lambda s: s * math.exp(-20 * s), 0.017),
    "a jump elsewhere": (lambda s: s + (0.5 if s > 0.3 else 0.0), 0.21),
    "two crossings": (lambda s: (math.log10(s) + 2) ** 2, 0.09),
}


def solved(figure: Callable[[float], float], target: float, auto: str = "gaussian-noise sd=auto"):
    """Solve for a setting of a chain whose picture is one float sample: the figure itself."""
    chain = parse_chain(auto, "degradation", auto=True)
    reference = as_picture(np.zeros((1, 1)))

    def make(chain: object) -> Picture:
        argument = next(iter(arguments(chain.steps[0], reference).values()))
        return as_picture(np.full((1, 1), figure(argument) / 255))

    return solve_chain(chain, Target.parse(f"mean={target!r}"), reference, make)


@pytest.mark.parametrize("name", FIGURES)
def test_the_search_finds_a_setting(name: str) -> None:
    figure, target = FIGURES[name]
    chain, aim = solved(figure, target)
    assert abs(aim.reached - target) <= aim.tolerance
    assert aim.tries <= MOST_TRIES
    sd = arguments(chain.steps[0], as_picture(np.zeros((1, 1))))["sd"]
    assert figure(sd) == pytest.approx(aim.reached, abs=1e-12)


def test_the_search_says_what_it_cannot_reach() -> None:
    with pytest.raises(TargetError, match="mean=7 is out of reach of gaussian-noise: mean goes"):
        solved(lambda s: s, 7.0)
    with pytest.raises(TargetError, match=r"mean=0.5 is not met .* in \d+ tries: the closest were"):
        solved(lambda s: 0.0 if s < 0.1 else 1.0, 0.5)
    with pytest.raises(TargetError, match="the closest were 3"):
        solved(float, 3.4, "quantize bits=auto")
    chain, aim = solved(float, 13.0, "quantize bits=auto")
    assert (str(chain), aim.reached) == ("quantize bits=13", 13.0)


def test_edges_are_looked_for_in_large_windows_first() -> None:
    y, x = np.mgrid[:300, :320]
    plane = ((x - 160 + 0.1 * (y - 150)) > 0).astype(float)
    first = next(iter(candidates(plane)))
    assert (first.height, first.width) == (160, 112)
    middle = first.left + first.width / 2
    assert abs(middle + 0.1 * (first.top + first.height / 2 - 150) - 160) < 12
    assert list(candidates(np.zeros((300, 320)))) == []
    assert list(candidates(plane[:20, :20])) == []


@pytest.mark.parametrize("turn", ["transposed", "mirrored"])
def test_scores_do_not_depend_on_which_way_is_up(turn: str) -> None:
    clean = (texture(192, 200, 3) * 255).astype(np.uint8)
    worn = magnetite.degrade(clean, "gaussian-blur sigma=1 + gaussian-noise sd=4%").picture.samples

    def turned(samples: np.ndarray) -> np.ndarray:
        other = samples.swapaxes(0, 1) if turn == "transposed" else samples[:, ::-1]
        return np.ascontiguousarray(other)

    # What samples every other pixel, or has a grid, sees another picture in the mirror.
    kept = (m.name for m in every("metric") if m.name not in ("psnr-b", "vif", "iw-ssim"))
    names = ",".join(kept)
    one, two = (
        magnetite.score(clean, worn, names),
        magnetite.score(turned(clean), turned(worn), names),
    )
    assert dict(one) == pytest.approx(dict(two), rel=1e-6, abs=1e-9)
