"""Restorations against their definitions, closed forms and promises."""

from __future__ import annotations

import itertools
import math
from pathlib import Path

import numpy as np
import pytest
from scipy.fft import dctn, idctn
from scipy.ndimage import median_filter

import magnetite
import slow_collaborative
from conftest import Run, arguments, texture
from magnetite.core.chain.notation import parse_chain
from magnetite.core.compute.threads import listening, use_threads
from magnetite.core.methods.catalogue import every
from magnetite.core.picture import Picture
from magnetite.core.restore import order
from magnetite.core.restore.deblurring import _Frame, blur_kernel, tv_deblur
from magnetite.core.restore.kernels.order import median_network
from magnetite.core.restore.stabilise import backward, forward
from magnetite.synthetic.catalogue import SCENES
from restorations import STEPS, apply, psnr

#: Settings that must change nothing.
NOTHING = (
    "mean size=1", "gaussian sigma=0", "median size=1", "bilateral sigma=0", "bilateral range=0%",
    "wiener sd=0%", "guided range=0%", "anisotropic-diffusion iterations=0", "sharpen amount=0",
    "sliding-dct sd=0%", "wavelet-shrink sd=0%", "nl-means sd=0%", "bm3d sd=0%",
    "total-variation strength=0%", "total-variation robust=0", "wiener-deblur sigma=0",
    "richardson-lucy radius=0", "richardson-lucy sigma=2 iterations=0", "tv-deblur length=0",
    "deblock step=0%", "dering range=0%", "dequantize step=0%",
)  # fmt: skip


def noisy(sd: float, scene: int = 0) -> tuple[np.ndarray, np.ndarray]:
    clean = SCENES[scene].picture(192, 144, 0).luma().pixels()
    noise = np.random.default_rng(5).normal(0, sd, clean.shape)
    return clean, (clean + noise).astype(np.float32)


def windows(plane: np.ndarray, size: int) -> np.ndarray:
    padded = np.pad(plane.astype(float), size // 2, mode="symmetric")
    return np.lib.stride_tricks.sliding_window_view(padded, (size, size))


def test_every_restoration_is_tried_here() -> None:
    # Commands of one's own that other tests have declared in this process are none of them.
    own = (m for m in every("restoration") if m.function.__module__.startswith("magnetite.core"))
    assert set(STEPS) == {method.name for method in own}


@pytest.mark.parametrize("name", STEPS)
def test_a_constant_picture_stays_constant(name: str) -> None:
    for shape, dtype, level in (((19, 23), np.uint8, 77), ((19, 23, 3), np.uint16, 40321)):
        flat = np.full(shape, level, dtype)
        assert (magnetite.restore(flat, f"{name} {STEPS[name]}").picture.samples == level).all()


@pytest.mark.parametrize("step", NOTHING)
def test_no_strength_changes_nothing(step: str, picture: Picture) -> None:
    assert magnetite.restore(picture, step).picture.same_samples(picture)


def test_no_result_depends_on_the_number_of_threads() -> None:
    pixels = noisy(0.05)[1]
    try:
        for name, settings in STEPS.items():
            results = []
            for count in (1, 2):
                use_threads(count)
                step = parse_chain(f"{name} {settings}", "restoration").steps[0]
                results.append(step.method.function(pixels, **arguments(step)))
            np.testing.assert_array_equal(*results, err_msg=name)
    finally:
        use_threads(2)


def test_a_listener_is_told_how_far_it_is() -> None:
    heard: list[tuple[int, int]] = []
    with listening(lambda done, total, name: heard.append((done, total))):
        apply("nl-means", texture(400, 20).astype(np.float32), sd=0.1, search=3)
    assert heard == [(1, 4), (2, 4), (3, 4), (4, 4)]


@pytest.mark.parametrize("count", [1, 2, 9, 13, 25, 49, 121])
def test_networks_find_medians(count: int) -> None:
    samples = np.random.default_rng(count).integers(0, 40, (count, 500))
    ordered = samples.copy()
    for one, two in median_network(count).astype(int):
        low, high = np.minimum(*ordered[[one, two]]), np.maximum(*ordered[[one, two]])
        ordered[one], ordered[two] = low, high
    np.testing.assert_array_equal(ordered[count // 2], np.sort(samples, axis=0)[count // 2])


@pytest.mark.parametrize("compiled", [True, False], ids=["loops", "arrays"])
@pytest.mark.parametrize("size", [3, 5, 7, 13, 31])
def test_medians_of_windows_of_any_size_and_depth(
    size: int, compiled: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(order, "compiled_pays", lambda samples: compiled)
    y, x = np.mgrid[:size, :size] - size // 2
    for pixels in (
        np.random.default_rng(0).integers(0, 256, (40, 37)).astype(np.float32) / np.float32(255),
        np.random.default_rng(1).integers(0, 65536, (40, 37)).astype(np.float32)
        / np.float32(65535),
        np.random.default_rng(2).random((40, 37)),
        np.random.default_rng(3).random((11, 800)),  # more columns than a tile has
    ):
        expected = median_filter(pixels, size, mode="reflect")
        np.testing.assert_array_equal(apply("median", pixels, size=size), expected)
        expected = median_filter(pixels, footprint=x**2 + y**2 <= (size / 2) ** 2, mode="reflect")
        np.testing.assert_array_equal(apply("median", pixels, size=size, shape="disk"), expected)


def test_adaptive_median_leaves_good_samples_alone() -> None:
    smooth = (0.5 + 0.2 * texture(60, 70)).astype(np.float32)
    hit = np.random.default_rng(3).random(smooth.shape)
    worn = np.where(hit < 0.2, 0, np.where(hit > 0.8, 1, smooth)).astype(np.float32)
    mended = apply("adaptive-median", worn)
    good = (hit >= 0.2) & (hit <= 0.8)
    assert (mended[good] == smooth[good]).mean() > 0.95
    assert mended[~good].min() > 0
    assert mended[~good].max() < 1
    best = max(psnr(apply("median", worn, size=s), smooth) for s in (3, 5, 7, 9))
    assert psnr(mended, smooth) > best + 1.5


def test_sliding_blocks_are_those_of_their_definition() -> None:
    plane = texture(13, 17).astype(np.float32)
    padded, total = np.pad(plane.astype(float), 7, mode="symmetric"), np.zeros((27, 31))
    for y in range(20):
        for x in range(24):
            spectrum = dctn(padded[y : y + 8, x : x + 8], norm="ortho")
            kept = np.abs(spectrum) > 3 * 0.02
            kept[0, 0] = True
            total[y : y + 8, x : x + 8] += idctn(spectrum * kept, norm="ortho") / 64
    result = apply("sliding-dct", plane, sd=0.02)
    np.testing.assert_allclose(result, total[7:-7, 7:-7], atol=1e-6)


@pytest.mark.parametrize("channels", [None, 3])
def test_means_of_like_patches_are_those_of_their_definition(channels: int | None) -> None:
    pixels = texture(70, 15, channels).astype(np.float32)
    planes = np.atleast_3d(pixels).astype(float)
    padded = np.pad(planes, [(4, 4), (4, 4), (0, 0)], mode="symmetric")
    total, weights = np.zeros_like(planes), np.zeros((70, 15, 1))
    near = np.zeros((70, 15, 1))
    bilateral = np.zeros_like(planes)
    for dy in range(-3, 4):
        for dx in range(-3, 4):
            moved = padded[3 + dy : 75 + dy, 3 + dx : 20 + dx]
            square = ((padded[3:75, 3:20] - moved) ** 2).mean(axis=2)
            patch = np.lib.stride_tricks.sliding_window_view(square, (3, 3)).mean(axis=(2, 3))
            weight = np.exp(-np.maximum(0, patch - 2 * 0.05**2) / (0.7 * 0.05) ** 2)[..., None]
            total += weight * moved[1:-1, 1:-1]
            weights += weight
            plain = np.exp(-square[1:-1, 1:-1] / (2 * 0.1**2))[..., None]
            plain *= math.exp(-(dy**2 + dx**2) / (2 * 1.2**2))
            bilateral += plain * moved[1:-1, 1:-1]
            near += plain
    expected = (total / weights).reshape(pixels.shape)
    result = apply("nl-means", pixels, sd=0.05, strength=0.7, patch=3, search=7)
    np.testing.assert_allclose(result, expected, atol=1e-4)
    expected = (bilateral / near).reshape(pixels.shape)
    np.testing.assert_allclose(
        apply("bilateral", pixels, sigma=1.2, range=0.1), expected, atol=1e-4
    )


@pytest.mark.parametrize(
    "shape", [pytest.param((32, 37), marks=pytest.mark.long), (18, 20)], ids=["wide", "small"]
)
def test_collaborative_filtering_is_its_description(shape: tuple[int, int]) -> None:
    clean = 255 * texture(*shape)
    plane = clean + np.random.default_rng(0).normal(0, 12, shape)
    first, second = slow_collaborative.filtered(plane, 12.0)
    pixels = plane / 255
    np.testing.assert_allclose(
        255 * apply("bm3d", pixels, sd=12 / 255, stages="first"), first, atol=0.02
    )
    # The second stage looks for blocks in the first: where two are equally near, either will do.
    result = 255 * apply("bm3d", pixels, sd=12 / 255)
    assert np.sqrt(np.mean((result - second) ** 2)) < 0.02
    assert psnr(result / 255, clean / 255) > psnr(pixels, clean / 255) + 3


def test_collaborative_filtering_of_colour_beats_plane_by_plane() -> None:
    clean = SCENES[1].picture(192, 144, 0).pixels()
    worn = (clean + np.random.default_rng(0).normal(0, 0.1, clean.shape)).astype(np.float32)
    alone = np.dstack([apply("bm3d", worn[..., c].copy(), sd=0.1) for c in range(3)])
    assert psnr(apply("bm3d", worn, sd=0.1), clean) > psnr(alone, clean) + 0.5


def test_methods_stand_in_the_order_of_their_cost() -> None:
    clean, worn = noisy(0.1)
    means, sliding, first, both = (
        psnr(apply(name, worn, sd=0.1, **more), clean)
        for name, more in (("nl-means", {}), ("sliding-dct", {}), ("bm3d", {"stages": "first"}),
                           ("bm3d", {}))
    )  # fmt: skip
    assert means + 1 < both
    assert sliding + 0.4 < both
    assert first + 0.2 < both


def test_local_filters_are_their_formulas() -> None:
    plane = texture(20, 24).astype(np.float64)
    local, variance = windows(plane, 5).mean(axis=(2, 3)), windows(plane, 5).var(axis=(2, 3))
    gain = np.maximum(0, variance - 0.03**2) / variance
    expected = local + gain * (plane - local)
    np.testing.assert_allclose(apply("wiener", plane, sd=0.03), expected, atol=1e-9)
    slope = variance / (variance + 0.08**2)
    average = windows(slope, 5).mean(axis=(2, 3)), windows((1 - slope) * local, 5).mean(axis=(2, 3))
    expected = average[0] * plane + average[1]
    np.testing.assert_allclose(apply("guided", plane, range=0.08), expected, atol=1e-9)
    flowed = apply("anisotropic-diffusion", plane, range=0.1, iterations=30)
    assert flowed.mean() == pytest.approx(plane.mean(), abs=1e-12)  # nothing leaves
    assert plane.min() <= flowed.min() <= flowed.max() <= plane.max()
    blurred = apply("gaussian", plane, sigma=1.0)
    detail = plane - blurred
    expected = plane + 2 * detail * (np.abs(detail) > 0.02)
    np.testing.assert_allclose(apply("sharpen", plane, amount=2.0, threshold=0.02), expected)


def test_wavelet_shrinkage_of_pure_noise_leaves_nothing() -> None:
    noise = np.random.default_rng(0).normal(0.5, 0.05, (128, 128))
    for threshold in ("bayes", "universal"):
        left = apply("wavelet-shrink", noise, sd=0.05, threshold=threshold)
        assert left.std() < 0.15 * noise.std()
    clean, worn = noisy(0.1)
    spun, alone = (psnr(apply("wavelet-shrink", worn, sd=0.1, shifts=n), clean) for n in (4, 1))
    assert spun > alone + 0.3


def test_total_variation_of_a_step_moves_its_sides() -> None:
    """Strong, Chan 2003: a flat part of n samples moves by strength over n towards the other."""
    step = np.repeat([0.2, 0.8], [10, 30])[np.newaxis].astype(np.float64)
    result = apply("total-variation", step, strength=0.5, iterations=5000)
    expected = np.repeat([0.2 + 0.5 / 10, 0.8 - 0.5 / 30], [10, 30])
    np.testing.assert_allclose(result[0], expected, atol=1e-4)
    # Beside magnitudes a part stays whole or goes whole.
    dot = np.full((21, 21), 0.3)
    dot[10, 10] = 1
    result = apply("total-variation", dot, robust=0.5, iterations=2000)
    np.testing.assert_allclose(result, 0.3, atol=1e-3)
    clean, worn = noisy(0.08)
    result = apply("total-variation", worn, sd=0.08)
    assert np.sqrt(np.mean((result - worn) ** 2)) == pytest.approx(0.08, rel=0.03)
    assert psnr(result, clean) > psnr(worn, clean) + 2


@pytest.mark.parametrize(
    "blur", ["sigma=1.5", "size=5", "radius=2.5", "length=7 angle=30", "kernel=kernel.npy"]
)
def test_known_blurs_are_undone(blur: str, tmp_path: Path, run: Run) -> None:
    np.save(tmp_path / "kernel.npy", np.array([[1.0, 2, 1], [2, 5, 3], [0, 3, 3]]))
    names = {"sigma": "gaussian-blur", "size": "box-blur", "radius": "defocus",
             "length": "motion-blur", "kernel": "psf-blur"}  # fmt: skip
    name = names[blur.partition("=")[0]]
    clean = SCENES[0].picture(192, 144, 0).luma()
    magnetite.write(clean, tmp_path / "clean.png")
    chain = f"{name} {blur} + gaussian-noise sd=0.5dn".split()
    run("degrade", "clean.png", "degraded.png", *chain)
    before = magnetite.score(clean, magnetite.read(tmp_path / "degraded.png"), "psnr")["psnr"]
    for step in (f"wiener-deblur {blur} sd=1dn", f"richardson-lucy {blur}", f"tv-deblur {blur}"):
        run("restore", "degraded.png", "restored.png", *step.split())
        mended = magnetite.read(tmp_path / "restored.png")
        assert magnetite.score(clean, mended, "psnr")["psnr"] > before + 1.2, step
        edge = clean.pixels()[:6] - mended.pixels()[:6]
        assert np.sqrt(np.mean(edge**2)) < 0.05, "edges do not ring"


def test_photon_noise_becomes_even_and_back_without_bias() -> None:
    rng = np.random.default_rng(0)
    for electrons, read in ((8.0, 0.0), (20.0, 2.0), (300.0, 5.0)):
        drawn = rng.poisson(electrons, 200_000) + rng.normal(0, read, 200_000)
        even = forward(drawn, read)
        assert even.std() == pytest.approx(1, abs=0.03)
        assert backward(even.mean(), read) == pytest.approx(electrons, rel=0.01)
    # Down to a black field, where the closed form errs by 0.4 e: within 4 errors of the mean.
    for electrons, read in itertools.product((0.0, 0.3, 2.0, 40.0, 390.0, 420.0), (0.0, 1.0, 4.0)):
        drawn = rng.poisson(electrons, 400_000) + rng.normal(0, read, 400_000)
        even = forward(drawn, read)
        low, high = (backward(even.mean() + k * even.std() / 632.0, read) for k in (-4, 4))
        assert low - 1e-3 <= electrons <= high + 1e-3
    clean = SCENES[0].picture(192, 144, 0).luma()
    worn = magnetite.degrade(clean, "sensor-noise full-well=200e read=3e").picture
    chain = "anscombe full-well=200e read=3e"
    score = magnetite.score(clean, magnetite.restore(worn, chain).picture, "psnr")["psnr"]
    even = magnetite.restore(worn, "bm3d").picture  # takes the noise for the same everywhere
    assert score > magnetite.score(clean, even, "psnr")["psnr"]


def test_coding_artefacts() -> None:
    clean = SCENES[0].picture(192, 144, 0).luma()
    ramp = (0.5 + 0.4 * np.sin(np.mgrid[:90, :120].sum(axis=0) / 40)).astype(np.float32)
    coarse = np.rint(ramp * 15) / np.float32(15)
    smooth = apply("dequantize", coarse, step=1 / 15)
    assert np.abs(smooth - coarse).max() <= 0.5 / 15 + 1e-6
    assert psnr(smooth, ramp) > psnr(coarse, ramp) + 3
    coded = magnetite.compress(clean, "dct step=60dn smooth=off").picture.pixels()
    assert psnr(apply("deblock", coded, step=60 / 255), clean.pixels()) > psnr(
        coded, clean.pixels()
    )
    edge = np.where(np.arange(60) < 30, 0.2, 0.8).astype(np.float32)
    waves = np.tile(edge + 0.02 * np.cos(np.arange(60) * 2.0), (40, 1)).astype(np.float32)
    mended = apply("dering", waves, range=0.06)
    np.testing.assert_array_equal(mended[:, :19], waves[:, :19])  # out of reach
    assert (
        psnr(mended[:, 22:28], np.tile(edge, (40, 1))[:, 22:28])
        > psnr(waves[:, 22:28], np.tile(edge, (40, 1))[:, 22:28]) + 3
    )


def test_restore_says_what_it_found(tmp_path: Path, run: Run) -> None:
    clean = SCENES[0].picture(192, 144, 0)
    magnetite.write(clean, tmp_path / "clean.png")
    magnetite.write(magnetite.degrade(clean, "gaussian-noise sd=12dn").picture, tmp_path / "n.png")
    done = run("restore", "n.png", "out.png", "nl-means")
    assert "sd of the noise estimated: nl-means sd=1" in done.stderr
    aim = ["--aim", "psnr=best", "--reference", "clean.png"]
    done = run("restore", "n.png", "out.png", "gaussian", "sigma=auto", *aim)
    assert "an oracle" in done.stderr
    assert "structure was lost" in done.stdout
    run("--threads", "1", "view", "residual", "n.png", "out.png")
    assert (tmp_path / "residual.png").is_file()
    for words, said in (
        (["gaussian", "sigma=auto"], "an aim METRIC=best"),
        (["gaussian", "sigma=auto", "--aim", "psnr=30"], "psnr=best"),
        (["total-variation"], "strength=, such as"),
        (["wiener-deblur", "sigma=1", "radius=2"], "takes one of"),
        (["bm3d", "sd=20"], "20 has no unit"),
    ):
        done = run("restore", "n.png", "no.png", *words, status=2)
        assert said in done.stderr
        assert len(done.stderr.splitlines()) == 1
        assert not (tmp_path / "no.png").exists()


@pytest.mark.parametrize("iterations", [1, 2, 9])
@pytest.mark.parametrize("settings", [{"sigma": 1.2}, {"length": 7.0, "angle": 30.0}])
def test_split_total_variation_is_its_definition(
    settings: dict[str, float], iterations: int
) -> None:
    """Slopes, shrinking and the quadratic step by transforms alone (Wang et al. 2008)."""
    plane, strength = texture(37, 46), 0.02
    weights = blur_kernel(
        settings.get("sigma"), None, None, settings.get("length"), settings.get("angle", 0.0), None
    )
    frame = _Frame.around(plane, weights)
    start, penalty = frame.tapered(weights), 50 * strength
    kernel = np.zeros_like(start)
    kernel[: weights.shape[0], : weights.shape[1]] = weights
    shape = start.shape
    transfer = np.fft.fft2(np.roll(kernel, [-(n // 2) for n in weights.shape], (0, 1)))
    down = np.exp(2j * np.pi * np.fft.fftfreq(shape[0]))[:, np.newaxis] - 1
    across = np.exp(2j * np.pi * np.fft.fftfreq(shape[1])) - 1
    power = abs(transfer) ** 2 + penalty * (abs(down) ** 2 + abs(across) ** 2)
    split, lag = np.zeros((2, *shape)), np.zeros((2, *shape))
    for _ in range(iterations):
        pull = [np.fft.fft2(part) for part in split - lag]
        spectrum = transfer.conj() * np.fft.fft2(start)
        spectrum += penalty * (down.conj() * pull[0] + across.conj() * pull[1])
        found = np.fft.ifft2(spectrum / power).real
        slopes = np.stack([np.roll(found, -1, axis) - found for axis in (0, 1)]) + lag
        size = np.sqrt((slopes**2).sum(axis=0))
        split = slopes * np.maximum(1 - strength / penalty / np.maximum(size, 1e-12), 0)
        lag = slopes - split
    ours = tv_deblur(plane, strength=strength, iterations=iterations, **settings)
    np.testing.assert_allclose(ours, frame.inner(found), atol=1e-10)
