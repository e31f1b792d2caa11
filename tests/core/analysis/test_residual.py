"""Verdicts on residuals against the truth of simulations."""

from __future__ import annotations

from collections import Counter
from itertools import product

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter, uniform_filter

import magnetite
from conftest import texture
from magnetite.core.analysis.residual import _FLOOR, Residual, _edges, local_strengths, residual
from magnetite.core.picture import Picture, as_picture
from magnetite.synthetic.catalogue import SCENES
from photographs import Gray, photographs

METHODS = ("bm3d", "sliding-dct", "nl-means", "total-variation")
STRENGTHS = (0.4, 0.7, 1.0, 1.6, 2.5)
#: Loss in dB from which on a strength is the wrong one.
WRONG = 0.5


def judged(before: Picture, after: Picture) -> Residual:
    found = residual(before, after)
    assert found is not None
    return found


def findings(scene: Gray, sd: float, method: str) -> list[tuple[str, str]]:
    """Truth (too weak, too strong, right) and finding at each strength.

    By the squared error against the clean picture: a strength below the best one that loses
    0.5 dB left noise, one above it lost structure.
    """
    rng = np.random.default_rng([int(sd), METHODS.index(method)])
    noisy = np.rint(scene + sd * rng.standard_normal(scene.shape)).clip(0, 255).astype(np.uint8)
    errors, found = [], []
    for strength in STRENGTHS:
        done = magnetite.restore(noisy, f"{method} sd={sd * strength:.4g}dn")
        assert done.residual is not None
        errors.append(float(np.mean((done.picture.samples - scene) ** 2)))
        found.append(done.residual.finding)
    loss = 10 * np.log10(np.array(errors) / min(errors))
    best = int(np.argmin(errors))
    truth = [
        "right" if lost < WRONG else "weak" if k < best else "strong" for k, lost in enumerate(loss)
    ]
    return list(zip(truth, found, strict=True))


OPPOSITE = {("weak", "structure lost"), ("strong", "noise left")}
RIGHT = {("weak", "noise left"), ("weak", "none"), ("strong", "structure lost")}


def check(counts: Counter[tuple[str, str]], share: float) -> None:
    assert not OPPOSITE & set(counts), counts
    right = sum(n for case, n in counts.items() if case in RIGHT or case[0] == "right")
    assert right >= share * counts.total(), counts


def test_verdicts_are_right_and_never_the_opposite() -> None:
    counts: Counter[tuple[str, str]] = Counter()
    for scene, method in zip(photographs(192)[:4], METHODS, strict=True):
        counts.update(findings(scene, 10, method))
    check(counts, 0.9)
    assert {"weak", "strong", "right"} == {truth for truth, _ in counts}


@pytest.mark.long
def test_verdicts_over_photographs_noises_methods_and_strengths() -> None:
    """Six photographs and five scenes of another seed, three noises, four methods, five strengths.

    Grain and noise cannot be distinguished: for scenes of grain the verdict may say so.
    """
    counts: Counter[tuple[str, str]] = Counter()
    for scene, sd, method in product(photographs(), (4, 10, 25), METHODS):
        counts.update(findings(scene, sd, method))
    check(counts, 0.9)
    grainy: Counter[tuple[str, str]] = Counter()
    for scene, sd, method in product(SCENES, (4, 10, 25), METHODS):
        clean = scene.picture(256, 256, 9).luma().pixels().astype(np.float64)
        grainy.update(findings(np.rint(clean * 255), sd, method))
    check(grainy, 0.8)


def left_at_slopes(scene: Gray, noisy: Gray, after: Gray) -> float:
    """Share of the noise that the quarter with the steepest slopes still has."""
    slopes = local_strengths(noisy - after, after)[1]
    steep = slopes >= np.quantile(slopes, 0.75)
    noise = (noisy - scene)[steep]
    return float(((after - scene)[steep] * noise).sum() / (noise**2).sum())


def test_noise_that_is_left_at_edges_is_said() -> None:
    said = []
    for k, (scene, method) in enumerate(product(photographs(192)[:3], METHODS[:3])):
        sd = (5, 12, 25)[k % 3]
        noisy = scene + sd * np.random.default_rng(k).standard_normal(scene.shape)
        samples = np.rint(noisy).clip(0, 255).astype(np.uint8)
        done = magnetite.restore(samples, f"{method} sd={sd}dn")
        assert done.residual is not None
        if done.residual.finding != "white":
            continue
        said.append("weaker at edges: much of the noise is left there" in done.residual.verdict)
        assert said[-1] == (done.residual.edges <= -0.5)
        after = done.picture.samples.astype(float)
        assert not said[-1] or left_at_slopes(scene, samples.astype(float), after) >= 0.4
    assert len(said) >= 5
    assert any(said)
    # Noise that is removed everywhere.
    flat = np.full((96, 128), 0.5)
    noisy = as_picture(flat + np.random.default_rng(1).normal(0, 0.04, flat.shape))
    even = judged(noisy, as_picture(flat))
    assert even.verdict == "the residual looks like white noise"


def test_figures_of_a_residual_are_the_known_ones() -> None:
    """On an even ground with noise of 12 dn, of which a gain of 1/3 leaves 4 dn."""
    rng = np.random.default_rng(3)
    noise = 12 * rng.standard_normal((480, 640))
    before = as_picture((128 + noise) / 255)
    found = judged(before, as_picture((128 + noise / 3) / 255))
    scale = before.full_scale / 255
    assert found.finding == "noise left"
    assert found.sd == pytest.approx(8 * scale, rel=0.01)
    assert found.noise.low < 12 * scale < found.noise.high
    assert found.left == pytest.approx(4 * scale, rel=0.1)
    assert found.lost < 2.5 * scale
    # Mottles of 12 dn rms in one half, removed with the noise.
    mottles = gaussian_filter(rng.standard_normal((480, 640)), 1.0)
    pattern = np.where(np.arange(640) < 320, 0, 17 / mottles.std()) * mottles
    mottled = as_picture((128 + noise + pattern) / 255)
    found = judged(mottled, as_picture(np.full((480, 640), 128 / 255)))
    assert found.finding == "structure lost"
    assert found.lost > 8 * scale
    # In whole numbers, the figures are in dn; the finding is the same.
    eight = [as_picture(np.rint(x).astype(np.uint8)) for x in (128 + noise, 128 + noise / 3)]
    whole = judged(*eight)
    assert whole.finding == "noise left"
    assert (whole.sd, whole.left) == pytest.approx((8, 4), rel=0.1)
    assert whole.noise.low < 12 < whole.noise.high
    exact = judged(mottled, as_picture((128 + pattern) / 255))
    assert exact.finding == "white"
    assert abs(exact.edges) < 0.1
    assert exact.structure < 0.02


def test_lost_structure_is_found_where_the_residual_is_weaker_than_the_noise() -> None:
    """Half of the noise is left everywhere, and mottles of 5 dn were lost in one half."""
    rng = np.random.default_rng(8)
    noise = 12 * rng.standard_normal((480, 640))
    mottles = gaussian_filter(rng.standard_normal((480, 640)), 1.0)
    scene = 128 + np.where(np.arange(640) < 320, 0, 20 / mottles.std()) * mottles
    kept = 128 + 0.75 * (scene - 128)
    found = judged(as_picture((scene + noise) / 255), as_picture((kept + 0.12 * noise) / 255))
    assert found.sd < found.noise.low
    assert found.finding == "structure lost"
    # The other way round, more is removed where the picture is flat.
    spared = judged(
        as_picture((scene + noise) / 255),
        as_picture((scene + np.where(np.arange(640) < 320, 0.05, 0.3) * noise) / 255),
    )
    assert spared.finding != "structure lost"


def test_clipped_noise_is_not_lost_structure() -> None:
    for low in (0.0, 0.55):
        scene = low + 0.45 * texture(256, 320, seed=2)
        clean = as_picture(np.rint(scene * 255).astype(np.uint8))
        noisy = magnetite.degrade(clean, "gaussian-noise sd=20dn").picture
        assert ((noisy.samples == 0) | (noisy.samples == 255)).mean() > 0.01
        assert judged(noisy, clean).finding == "white"
        assert magnetite.score(clean, noisy, "residual-whiteness")["residual-whiteness"] > 0.001


def test_over_sharpening_is_said() -> None:
    """The right deblurring, one of twice the sigma, and a strong sharpening of one picture."""
    clean = as_picture(photographs()[1].astype(np.uint8))
    worn = magnetite.degrade(clean, "gaussian-blur sigma=1.5px + gaussian-noise sd=1.5dn").picture
    steps = ("wiener-deblur sigma=1.5px sd=1.5dn", "wiener-deblur sigma=3px sd=1.5dn",
             "sharpen amount=6")  # fmt: skip
    right, wide, sharp = (judged(worn, magnetite.restore(worn, step).picture) for step in steps)
    assert "over-sharpened" not in right.verdict
    for wrong in (wide, sharp):
        assert wrong.finding == "sharpened"
        assert wrong.sharpened is not None
        assert right.sharpened is not None
        assert "over-sharpened" in wrong.verdict
        assert wrong.sharpened.ringing_after > 1.5 * wrong.sharpened.ringing_before
        assert wrong.sharpened.overshoot > 1.2 * right.sharpened.overshoot
    assert sharp.sharpened is not None
    assert sharp.sharpened.noise_after > 5 * sharp.noise.sd


def test_large_pictures_are_judged_by_tiles_and_small_ones_not() -> None:
    flat = np.full((1500, 1400), 0.5, np.float32)
    rng = np.random.default_rng(0)
    noisy = flat + 0.04 * rng.standard_normal(flat.shape, np.float32)
    found = judged(as_picture(noisy), as_picture(flat))
    assert found.finding == "white"
    assert found.sd == pytest.approx(0.04, rel=0.01)
    # A change in the first rows only, which every fourth tile sees.
    changed = noisy.copy()
    changed[:200] = flat[:200]
    assert judged(as_picture(noisy), as_picture(changed)).sd == pytest.approx(
        0.04 * (200 / 1024) ** 0.5, rel=0.02
    )
    assert residual(as_picture(noisy[:23]), as_picture(flat[:23])) is None
    # The smallest ones, sharpened; and a large one, whose figures are those of its parts.
    wave = np.tile(0.5 + 0.2 * np.sin(np.arange(1500) / 4), (1500, 1))
    steep = 0.5 + 2 * (wave - 0.5)
    for side in (24, 1500):
        one, two = (as_picture(x[:side, :side]) for x in (wave, steep))
        assert judged(one, two).steeper == pytest.approx(2, rel=1e-6)
        assert judged(one, two).finding == "sharpened"
    same = judged(as_picture(flat), as_picture(flat))
    assert same.verdict == "the residual is zero: nothing was changed"


def test_impulses_are_not_taken_for_lost_structure() -> None:
    """Their removal improves the picture, though the residual has far more power than its noise."""
    found = []
    for scene, method in product(photographs()[:4], ("adaptive-median", "median size=3")):
        clean = as_picture(scene.astype(np.uint8))
        worn = magnetite.degrade(clean, "salt-pepper density=20%").picture
        judged = magnetite.restore(worn, method, reference=clean).residual
        assert judged is not None
        found.append(judged.finding)
        if judged.finding == "impulses":
            share = magnetite.gauge(worn, "impulse-share")["impulse-share"]
            assert judged.impulses == pytest.approx(share, rel=0.01)
            assert f"{judged.impulses:.1%} of the picture's samples are impulses" in judged.verdict
    assert set(found) <= {"impulses", "white", "unclear"}
    assert found.count("impulses") >= 3
    lost = magnetite.restore(
        magnetite.degrade(clean, "gaussian-noise sd=10dn").picture, "mean size=15"
    ).residual
    assert lost is not None
    assert lost.finding == "structure lost"


def test_edges_are_followed_at_clear_positions_alone() -> None:
    rng = np.random.default_rng(5)
    restored = rng.random((40, 50))
    difference = rng.normal(0, 0.1, (40, 50))
    slopes = np.zeros((40, 50))
    slopes[:, 1:] += np.diff(restored, axis=1) ** 2
    slopes[1:] += np.diff(restored, axis=0) ** 2
    one, two = (uniform_filter(x, 5, mode="reflect") for x in (difference**2, slopes))
    clear = np.zeros((40, 50), bool)
    clear[8:30, 9:41] = True
    strengths = [np.log(x[clear] + _FLOOR * x[clear].mean()) for x in (one, two)]
    assert _edges(difference, restored, clear) == pytest.approx(np.corrcoef(*strengths)[0, 1])


def test_black_surroundings_change_no_verdict() -> None:
    """Two thirds of the picture are black without noise; the rest is the same picture."""
    scene = SCENES[2].picture(160, 128, 3)
    noisy = magnetite.degrade(scene, "gaussian-noise sd=10dn", seed=1).picture
    after = magnetite.restore(noisy, "sliding-dct sd=10dn").picture

    def surrounded(picture: Picture) -> Picture:
        samples = np.zeros((256, 240, 3), np.uint8)
        samples[60:188, 40:200] = picture.samples
        return as_picture(samples)

    plain = judged(noisy, after)
    found = judged(surrounded(noisy), surrounded(after))
    assert found.verdict == plain.verdict
    assert found.edges == pytest.approx(plain.edges, abs=0.2)
    assert found.noise.sd == pytest.approx(plain.noise.sd, rel=0.1)
    names = "residual-structure,residual-whiteness"
    noise = as_picture(np.full((128, 160), 90, np.uint8))
    white = magnetite.degrade(noise, "gaussian-noise sd=10dn", seed=4).picture
    black = np.zeros((256, 320), np.uint8)
    pair = []
    for picture in (noise, white):
        samples = black.copy()
        samples[60:188, 80:240] = picture.samples
        pair.append(as_picture(samples))
    inner, outer = (magnetite.score(*two, names) for two in ((noise, white), pair))
    assert outer["residual-structure"] == pytest.approx(inner["residual-structure"], abs=0.003)
    assert outer["residual-whiteness"] == pytest.approx(inner["residual-whiteness"], abs=0.25)
