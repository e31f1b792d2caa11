"""The panel of metrics against published values, closed forms and slow direct definitions."""

from __future__ import annotations

import json
import math
import re
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

import magnetite
import slow_metrics
from conftest import Run, pair, size_of
from magnetite.core.compute.compiling import WORTH_COMPILING
from magnetite.core.errors import PictureError
from magnetite.core.methods.catalogue import ColourPolicy, every
from magnetite.core.metrics.colour import ciede2000, delta_e, lab_of_light, light_of
from magnetite.core.metrics.structure import ssim
from magnetite.synthetic.catalogue import SCENES

#: Sharma, Wu and Dalal (2005), table 1: L1 a1 b1, L2 a2 b2, CIEDE2000.
SHARMA = """
50.0000 2.6772 -79.7751 50.0000 0.0000 -82.7485 2.0425
50.0000 3.1571 -77.2803 50.0000 0.0000 -82.7485 2.8615
50.0000 2.8361 -74.0200 50.0000 0.0000 -82.7485 3.4412
50.0000 -1.3802 -84.2814 50.0000 0.0000 -82.7485 1.0000
50.0000 -1.1848 -84.8006 50.0000 0.0000 -82.7485 1.0000
50.0000 -0.9009 -85.5211 50.0000 0.0000 -82.7485 1.0000
50.0000 0.0000 0.0000 50.0000 -1.0000 2.0000 2.3669
50.0000 -1.0000 2.0000 50.0000 0.0000 0.0000 2.3669
50.0000 2.4900 -0.0010 50.0000 -2.4900 0.0009 7.1792
50.0000 2.4900 -0.0010 50.0000 -2.4900 0.0010 7.1792
50.0000 2.4900 -0.0010 50.0000 -2.4900 0.0011 7.2195
50.0000 2.4900 -0.0010 50.0000 -2.4900 0.0012 7.2195
50.0000 -0.0010 2.4900 50.0000 0.0009 -2.4900 4.8045
50.0000 -0.0010 2.4900 50.0000 0.0010 -2.4900 4.8045
50.0000 -0.0010 2.4900 50.0000 0.0011 -2.4900 4.7461
50.0000 2.5000 0.0000 50.0000 0.0000 -2.5000 4.3065
50.0000 2.5000 0.0000 73.0000 25.0000 -18.0000 27.1492
50.0000 2.5000 0.0000 61.0000 -5.0000 29.0000 22.8977
50.0000 2.5000 0.0000 56.0000 -27.0000 -3.0000 31.9030
50.0000 2.5000 0.0000 58.0000 24.0000 15.0000 19.4535
50.0000 2.5000 0.0000 50.0000 3.1736 0.5854 1.0000
50.0000 2.5000 0.0000 50.0000 3.2972 0.0000 1.0000
50.0000 2.5000 0.0000 50.0000 1.8634 0.5757 1.0000
50.0000 2.5000 0.0000 50.0000 3.2592 0.3350 1.0000
60.2574 -34.0099 36.2677 60.4626 -34.1751 39.4387 1.2644
63.0109 -31.0961 -5.8663 62.8187 -29.7946 -4.0864 1.2630
61.2901 3.7196 -5.3901 61.4292 2.2480 -4.9620 1.8731
35.0831 -44.1164 3.7933 35.0232 -40.0716 1.5901 1.8645
22.7233 20.0904 -46.6940 23.0331 14.9730 -42.5619 2.0373
36.4612 47.8580 18.3852 36.2715 50.5065 21.2231 1.4146
90.8027 -2.0831 1.4410 91.1528 -1.6435 0.0447 1.4441
90.9257 -0.5406 -0.9208 88.6381 -0.8985 -0.7239 1.5381
6.7747 -0.2908 -2.4247 5.8714 -0.0985 -2.2286 0.6377
2.0776 0.0795 -1.1350 0.9033 -0.0636 -0.5514 0.9082
"""


def scored(metric: str, x: np.ndarray, y: np.ndarray) -> float:
    return magnetite.score(x.astype(np.uint8), y.astype(np.uint8), metric)[metric]


def test_ciede2000_of_the_published_pairs() -> None:
    table = np.array([line.split() for line in SHARMA.split("\n") if line], float)
    assert len(table) == 34
    one, two = table[:, :3], table[:, 3:6]
    np.testing.assert_allclose(ciede2000(one, two), table[:, 6], atol=5e-5)
    np.testing.assert_allclose(ciede2000(two, one), table[:, 6], atol=5e-5)


def test_lab_of_known_colours() -> None:
    colours = np.array([[[1, 1, 1], [0, 0, 0], [1, 0, 0], [0, 0, 1]]], float)
    # Lindbloom's values for sRGB and D65.
    expected = [[100, 0, 0], [0, 0, 0], [53.24, 80.09, 67.20], [32.30, 79.19, -107.86]]
    np.testing.assert_allclose(lab_of_light(light_of(colours))[0], expected, atol=0.03)
    gray = np.full((3, 4, 3), 0.5)
    # Between grays the difference is one of lightness alone.
    lighter = delta_e(gray, gray + 0.1)
    l1, l2 = (lab_of_light(light_of(gray + more))[0, 0, 0] for more in (0, 0.1))
    spread = 1 + 0.015 * ((l1 + l2) / 2 - 50) ** 2 / math.sqrt(20 + ((l1 + l2) / 2 - 50) ** 2)
    assert lighter == pytest.approx((l2 - l1) / spread, rel=1e-4)


def test_errors_of_black_are_infinite() -> None:
    black = np.zeros((9, 9))
    assert scored("nrmse", black, black + 1) == math.inf
    assert scored("snr", black, black + 1) == -math.inf
    dot = black.copy()
    dot[0, 0] = 1  # a power of 1 in all, an error of 4
    assert scored("snr", dot, 3 * dot) == pytest.approx(10 * math.log10(1 / 4))


def test_psnr_b_of_blocks_and_of_none() -> None:
    x, _ = pair(35, 50)
    blocky = np.kron(x[:4, :6], np.ones((8, 8)))
    assert scored("psnr-b", blocky, blocky + 0) == pytest.approx(
        slow_metrics.psnr_b(blocky, blocky)
    )
    assert scored("psnr-b", blocky, blocky) < 40
    smooth = np.tile(np.arange(40.0), (40, 1))
    assert scored("psnr-b", smooth, smooth) == math.inf


def test_csf_psnr_weights_what_the_eye_sees() -> None:
    x = np.full((60, 90), 100.0)
    shifted = scored("csf-psnr", x, x + 3)
    assert shifted == pytest.approx(scored("psnr", x, x + 3), abs=1e-9)
    fine = x + 6 * (np.indices(x.shape).sum(0) % 2) - 3
    # A checkerboard lies at 0.707 c/px: 42 cycles per degree at 60 px.
    f = 60 * math.hypot(0.5, 0.5)
    grid = np.linspace(0.1, 60, 100_000)

    def sensitivity(f: float) -> float:
        return 2.6 * (0.0192 + 0.114 * f) * np.exp(-((0.114 * f) ** 1.1))

    loss = 20 * math.log10(sensitivity(grid).max() / sensitivity(f))
    assert scored("csf-psnr", x, fine) == pytest.approx(20 * math.log10(255 / 3) + loss, abs=1e-6)


def test_uqi_of_flat_windows() -> None:
    x, y = pair(21, 26)
    x[:10, :10] = y[:10, :10] = 50  # equal
    x[-10:, -10:], y[-10:, -10:] = 40, 80  # of other means
    assert scored("uqi", x, y) == pytest.approx(slow_metrics.uqi(x, y), abs=1e-9)
    one, other = np.full((8, 8), 40.0), np.full((8, 8), 80.0)
    assert scored("uqi", one, other) == pytest.approx(2 * 40 * 80 / (40**2 + 80**2))


def test_the_parts_of_ssim_multiply_to_it() -> None:
    x, y = pair(11, 11)
    parts = [scored(f"ssim-{part}", x, y) for part in ("luminance", "contrast", "structure")]
    assert math.prod(parts) == pytest.approx(scored("ssim", x, y), rel=1e-9)
    assert scored("ssim-contrast", x, x // 2) < scored("ssim-structure", x, x // 2)


def test_ms_ssim_of_opposite_structure_and_of_small_pictures() -> None:
    x, _ = pair(180, 197)
    assert scored("ms-ssim", x, 255 - x) == 0.0  # clipped, never complex
    with pytest.raises(PictureError, match="at least 176x176 samples, not 300x175"):
        magnetite.score(np.zeros((175, 300), np.uint8), np.ones((175, 300), np.uint8), "ms-ssim")


@pytest.mark.parametrize("shape", [(200, 280), (383, 345)], ids=["arrays", "loops"])
def test_the_routes_of_ssim_are_the_definition(shape: tuple[int, int]) -> None:
    x, y = pair(*shape)
    assert (x.size >= WORTH_COMPILING) == (shape[0] > 200)
    each = slow_metrics.ssim_parts(x, y)
    expected = np.prod(each, axis=0)
    for dtype, scale in ((np.uint8, 1), (np.uint16, 257), (float, 0.1)):  # in float32
        one, two = (scale * p.astype(dtype) for p in (x, y))
        fast = ssim(one.astype(dtype), two.astype(dtype), 255.0 * scale)
        assert fast == pytest.approx(expected.mean(), abs=2e-8)
    parts = zip(("luminance", "contrast", "structure"), each, strict=True)
    for part, values in parts:
        assert scored(f"ssim-{part}", x, y) == pytest.approx(values.mean(), abs=1e-7)
    assert scored("ms-ssim", x, y) == pytest.approx(slow_metrics.ms_ssim(x, y), abs=1e-7)
    assert scored("ssim-contrast", x, x) == scored("ms-ssim", x, x) == 1
    mask = np.zeros(x.shape, bool)
    mask[60:190, 30:250] = True
    mask[70:74, 40:44] = False
    masked = magnetite.score(x.astype(np.uint8), y.astype(np.uint8), "ssim,mse,gmsd", mask=mask)
    fits = ndimage.minimum_filter(mask, 11)[5:-5, 5:-5]
    assert masked["ssim"] == pytest.approx(expected[fits].mean(), abs=1e-10)
    assert masked["mse"] == pytest.approx(((x - y)[mask] ** 2).mean())
    plain = np.zeros(x.shape, bool)
    plain[60:190, 30:250] = True
    inside = magnetite.score(
        x[60:190, 30:250].astype(np.uint8), y[60:190, 30:250].astype(np.uint8), "ssim,gmsd,uqi"
    )
    whole = magnetite.score(x.astype(np.uint8), y.astype(np.uint8), "ssim,gmsd,uqi", mask=plain)
    assert whole == pytest.approx(inside, abs=1e-10)
    dark = np.zeros((400, 400))
    assert ssim(dark, dark + 255, 255.0) == pytest.approx(0.01**2 / (1 + 0.01**2), abs=1e-11)


def test_vif_in_compiled_loops_and_of_flat_pictures() -> None:
    x, y = pair(371, 390)
    assert scored("vif", x, y) == pytest.approx(slow_metrics.vif(x, y), rel=1e-6)
    assert scored("vif", x, (x - 128) * 1.0 + 128) == 1.0
    flat = np.full((50, 50), 90.0)
    assert (scored("vif", flat, flat + 5), scored("vif", flat, y[:50, :50])) == (1.0, 0.0)


def test_mutual_information_of_closed_forms() -> None:
    halves = np.repeat([[0.0, 255.0]], 32, axis=1).repeat(64, axis=0)
    stripes = np.tile(np.repeat([0.0, 200.0], 32)[:, None], 64)
    assert scored("mutual-information", halves, 255 - halves) == pytest.approx(1)
    assert scored("mutual-information", halves, stripes) == pytest.approx(0, abs=1e-12)
    levels = np.repeat(np.arange(8) * 30.0, 8)[None].repeat(8, axis=0)
    assert scored("mutual-information", levels, levels) == pytest.approx(3)
    assert scored("mutual-information", levels, np.minimum(levels, 90)) == pytest.approx(
        4 / 8 * 0 + 3 / 8 * 3 + 5 / 8 * math.log2(8 / 5)
    )


def test_spectral_metrics_of_scaled_black_and_gray_pictures() -> None:
    x, y = pair(9, 13, 5)
    assert scored("sam", x // 2 * 2, x // 2) == pytest.approx(0, abs=1e-9)
    half = magnetite.score(x.astype(np.uint8), y.astype(np.uint8), "ergas ratio=2")
    assert half["ergas ratio=2"] == pytest.approx(slow_metrics.ergas(x, y) / 2, rel=1e-9)
    black = np.zeros((4, 4, 2))
    assert scored("sam", black, black + np.array([1, 0])) == 90
    assert scored("ergas", black, black + 1) == math.inf
    for metric in ("sam", "ergas"):
        with pytest.raises(PictureError, match="these pictures are gray"):
            scored(metric, x[..., 0], y[..., 0])


def test_the_residuals_test_tells_noise_from_structure() -> None:
    gray = np.full((200, 220), 0.5)
    chances = []
    for seed in range(60):
        noisy = magnetite.degrade(gray, "gaussian-noise sd=5%", seed=seed).picture
        chances.append(magnetite.score(gray, noisy, "residual-whiteness")["residual-whiteness"])
    # Under white noise a p-value is even on 0..1.
    assert np.mean(chances) == pytest.approx(0.5, abs=4 / math.sqrt(12 * 60))
    assert np.mean(np.array(chances) < 0.1) < 0.3
    scene = SCENES[1].picture(160, 112, 0)
    smoothed = magnetite.degrade(scene, "gaussian-blur sigma=1").picture
    scores = magnetite.score(scene, smoothed, "residual-structure,residual-whiteness")
    assert scores["residual-structure"] > 0.05
    assert scores["residual-whiteness"] < 1e-6
    wave = np.sin(np.pi * np.arange(100) / 4)[None].repeat(90, axis=0)
    structure = magnetite.score(gray[:90, :100], gray[:90, :100] + 0.1 * wave, "residual-structure")
    lags = [math.cos(math.pi / 4 * across) for across in (1, 2, -2, -1, 0, 1, 2, -2, -1, 0, 1, 2)]
    expected = math.sqrt(np.mean(np.square(lags)))
    assert structure["residual-structure"] == pytest.approx(expected, abs=0.02)


def test_depths_of_one_pair_agree_up_to_their_rounding() -> None:
    reference = SCENES[1].picture(196, 192, 0)
    worn = magnetite.degrade(reference, "gaussian-blur sigma=1 + gaussian-noise sd=3%").picture
    for method in every("metric"):
        scores = []
        for depth in ("8", "16", "float"):
            x, y = (p.samples for p in (reference, worn))
            if depth == "16":
                x, y = (p.astype(np.uint16) * 257 for p in (x, y))
            elif depth == "float":
                x, y = (p / 255 for p in (x, y))
            scores.append(magnetite.score(x, y, method.name)[method.name])
        assert scores == pytest.approx([scores[0]] * 3, rel=1e-9, abs=1e-12), method.name
    fine, test = (p.samples / 255 + np.random.default_rng(1).uniform(-0.4, 0.4, p.samples.shape)
                  / 255 for p in (reference, worn))  # fmt: skip
    coarse = [np.rint(p * 255).clip(0, 255).astype(np.uint8) for p in (fine, test)]
    for method in every("metric"):
        if method.name.startswith("residual"):
            continue  # rounding puts samples on black and full scale, and these are left out
        one, two = (
            magnetite.score(*pair, method.name)[method.name] for pair in ((fine, test), coarse)
        )
        assert one == pytest.approx(two, rel=0.04, abs=1e-3), method.name


SYMMETRIC = (
    "mse", "mae", "rmse", "max-error", "psnr", "ssim", "ssim-contrast", "uqi", "gmsd", "fsim",
    "delta-e", "sam", "mutual-information", "edge-preservation", "csf-psnr", "residual-structure",
)  # fmt: skip
#: The least and the largest value of each, as declared: "0 to 1", "0 and up", "up to ∞".
RANGES = {
    method.name: (
        -math.inf if method.values.startswith(("up", "−∞"))
        else float(method.values.split()[0].replace("−", "-")),
        math.inf if not re.search(r"to -?[\d.]+$", method.values)
        else float(method.values.split()[-1]),
    )
    for method in every("metric")
}  # fmt: skip


@settings(max_examples=25)
@given(
    height=st.integers(1, 48), width=st.integers(1, 48),
    channels=st.sampled_from([None, 2, 3, 5]), seed=st.integers(0, 99),
    spread=st.sampled_from([0.0, 0.3, 4.0, 60.0, 900.0]),
)  # fmt: skip
def test_scores_keep_the_promises_of_their_declarations(
    height: int, width: int, channels: int | None, seed: int, spread: float
) -> None:
    rng = np.random.default_rng(seed)
    shape = (height, width, *([channels] if channels else []))
    x = rng.normal(110, spread, shape).clip(0, 255).astype(np.uint8)
    y = (x + rng.normal(0, spread, shape)).clip(0, 255).astype(np.uint8)
    for method in every("metric"):
        try:
            score = scored(method.name, x, y)
        except PictureError as error:
            assert re.search("needs|fit|are gray|RGB", str(error)), method.name
            continue
        low, high = RANGES[method.name]
        assert low - 1e-9 <= score <= high + 1e-9, (method.name, score)
        same = method.identical
        assert same is None or scored(method.name, x, x) == pytest.approx(same, abs=1e-12)
        if method.name in SYMMETRIC:
            assert score == pytest.approx(scored(method.name, y, x), rel=1e-9, abs=1e-9)


#: Scores that a blur or noise may improve on some scene, and why.
NOT_MONOTONE = {
    ("psnr-b", "noise"), ("psnr-b", "blur"),  # noise hides block borders, blur evens them out
    ("residual-structure", "noise"), ("residual-structure", "blur"),  # say what, not how much
    ("residual-whiteness", "noise"), ("residual-whiteness", "blur"),
    ("max-error", "noise"), ("max-error", "blur"),  # one sample decides, and ends at full scale
    ("sam", "blur"), ("delta-e-95", "blur"),  # flat patches of the chart are left alone
    ("gmsd", "noise"), ("gmsd", "blur"),  # a deviation falls again where all is equally bad
}  # fmt: skip


@pytest.mark.parametrize(
    "scene",
    [
        pytest.param(scene, id=scene.name, marks=() if few else pytest.mark.long)
        for scene in SCENES
        for few in [scene.name == "clay-core"]
    ],
)
@pytest.mark.parametrize("chain", ["gaussian-noise sd={}%", "gaussian-blur sigma={}px"])
def test_scores_fall_as_the_degradation_grows(scene: object, chain: str) -> None:
    reference = scene.picture(320, 224, 0)
    worse = [magnetite.degrade(reference, chain.format(k)).picture for k in (1, 2, 4, 8)]
    kind = "noise" if "noise" in chain else "blur"
    for method in every("metric"):
        bands = reference.colour == "gray" and method.name in ("sam", "ergas")
        if bands or (method.colour is ColourPolicy.RGB and reference.colour == "gray"):
            continue
        scores = [magnetite.score(reference, test, method.name)[method.name] for test in worse]
        if (method.name, kind) in NOT_MONOTONE:
            assert all(map(math.isfinite, scores))
            continue
        sign = 1 if method.better == "higher" else -1
        assert all(sign * a >= sign * b for a, b in pairwise(scores)), (method.name, scores)


def test_maps_show_where_a_picture_fails(run: Run, tmp_path: Path) -> None:
    run("scenes", "trays", "--size", "160x120")
    reference = magnetite.read(tmp_path / "trays/veined-breccia.png")
    samples = reference.samples.copy()
    samples[30:60, 40:90] //= 2
    magnetite.write(magnetite.Picture(samples, 8, "rgb"), tmp_path / "dark.png")
    words = ("score", "trays/veined-breccia.png", "dark.png", "--maps", "maps")
    done = run(*words, "--format", "json", "--metrics", "ssim,mae,gmsd,delta-e")
    scores = json.loads(done.stdout)["rows"][0]["scores"]
    maps = {
        name: magnetite.read(tmp_path / f"maps/dark-{name}.tif", full_scale=1).samples
        for name in ("error", "ssim", "gmsd", "delta-e")
    }
    sizes = {name: values.shape for name, values in maps.items()}
    whole = (120, 160)
    assert sizes == {"error": whole, "ssim": (110, 150), "gmsd": (58, 78), "delta-e": whole}
    assert maps["error"].mean() == pytest.approx(scores["mae"], rel=1e-5)
    assert maps["ssim"].mean() == pytest.approx(scores["ssim"], rel=1e-5)
    assert maps["gmsd"].std() == pytest.approx(scores["gmsd"], rel=1e-4)
    assert maps["delta-e"].mean() == pytest.approx(scores["delta-e"], rel=1e-5)
    assert maps["error"][:30].max() == 0
    assert maps["error"][30:60, 40:90].mean() > 10
    assert (maps["ssim"][65:, 100:] == 1).all()
    assert size_of(tmp_path / "maps/dark-maps.png")[0] == 1280
    assert "two tests are called dark" in run(*words[:3], "./dark.png", *words[3:], status=2).stderr
