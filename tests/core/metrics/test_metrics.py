"""Metrics against slow, direct implementations of their definitions."""

from __future__ import annotations

import math

import numpy as np
import pytest

import magnetite
from conftest import texture
from magnetite.core.analysis.repeats import (
    ALL_REFERENCES,
    Summary,
    summarise,
    summarise_by_reference,
)
from magnetite.core.errors import PictureError
from magnetite.core.gauges.sharpness import laplacian_variance
from magnetite.core.metrics.structure import ssim
from magnetite.core.picture import Picture, as_picture


def slow_ssim(
    x: np.ndarray, y: np.ndarray, peak: float, window: int = 11, sd: float = 1.5
) -> float:
    """The definition, window by window, each moment from its own weighted sum."""
    at = np.arange(window) - window // 2
    weights = np.exp(-(at[:, None] ** 2 + at[None] ** 2) / (2 * sd**2))
    weights /= weights.sum()
    c1, c2 = (0.01 * peak) ** 2, (0.03 * peak) ** 2
    values = []
    for i in range(x.shape[0] - window + 1):
        for j in range(x.shape[1] - window + 1):
            a, b = (p[i : i + window, j : j + window].astype(float) for p in (x, y))
            ma, mb = (weights * a).sum(), (weights * b).sum()
            va, vb = (weights * (a - ma) ** 2).sum(), (weights * (b - mb) ** 2).sum()
            cov = (weights * (a - ma) * (b - mb)).sum()
            luminance = (2 * ma * mb + c1) / (ma**2 + mb**2 + c1)
            values.append(luminance * (2 * cov + c2) / (va + vb + c2))
    return float(np.mean(values))


def planes(picture: Picture) -> list[np.ndarray]:
    samples = picture.samples
    return [samples] if samples.ndim == 2 else [samples[..., c] for c in range(samples.shape[2])]


@pytest.fixture
def pair(picture: Picture) -> tuple[Picture, Picture]:
    return picture, magnetite.degrade(picture, "gaussian-noise sd=6%", seed=2).picture


def test_ssim_is_its_definition(pair: tuple[Picture, Picture]) -> None:
    one, two = pair
    peak = one.full_scale
    slow = np.mean([slow_ssim(a, b, peak) for a, b in zip(planes(one), planes(two), strict=True)])
    assert magnetite.score(one, two)["ssim"] == pytest.approx(slow, abs=1e-6)
    narrow = slow_ssim(planes(one)[0], planes(two)[0], peak, window=7, sd=1.0)
    fast = ssim(planes(one)[0], planes(two)[0], peak, window=7, window_sd=1.0)
    assert fast == pytest.approx(narrow, abs=1e-6)


def test_errors_are_their_definitions(pair: tuple[Picture, Picture]) -> None:
    one, two = pair
    difference = one.samples.astype(float) - two.samples.astype(float)
    mse = float((difference**2).mean())
    scores = magnetite.score(one, two, "mse,rmse,psnr")
    assert scores["psnr"] == pytest.approx(20 * math.log10(one.full_scale) - 10 * math.log10(mse))
    assert scores["mse"] == pytest.approx(mse * (255 / one.full_scale) ** 2)
    assert scores["rmse"] == pytest.approx(math.sqrt(scores["mse"]))


def test_psnr_of_one_wrong_sample() -> None:
    black = np.zeros((10, 10), np.uint8)
    wrong = black.copy()
    wrong[3, 4] = 255
    assert magnetite.score(black, wrong, "psnr")["psnr"] == pytest.approx(20)


def test_identical_pictures_have_defined_scores(picture: Picture) -> None:
    scores = magnetite.score(picture, picture, "mse,rmse,psnr,ssim")
    assert dict(scores) == {"mse": 0.0, "rmse": 0.0, "psnr": math.inf, "ssim": 1.0}
    assert scores.identical


def test_depths_agree_up_to_their_rounding() -> None:
    clean, worn = texture(40, 50), texture(40, 50, seed=2)
    rows = []
    for bits in (8, 12, 16, None):
        pictures = []
        for pixels in (clean, worn):
            if bits is None:
                pictures.append(as_picture(pixels))
            else:
                dtype = np.uint8 if bits <= 8 else np.uint16
                blank = Picture(np.zeros(pixels.shape, dtype), bits, "gray")
                pictures.append(blank.with_pixels(pixels)[0])
        sharp = magnetite.gauge(pictures[0])["laplacian-variance"]
        rows.append([*magnetite.score(*pictures).values(), sharp])
    for row in rows[:-1]:
        np.testing.assert_allclose(row, rows[-1], rtol=0.01)


@pytest.mark.parametrize("value", [0, 97])
def test_flat_pictures_have_the_closed_form(value: int) -> None:
    one, two = (np.full((12, 13), v, np.uint8) for v in (value, value + 10))
    c1 = (0.01 * 255) ** 2
    luminance = (2.0 * value * (value + 10) + c1) / (value**2 + (value + 10.0) ** 2 + c1)
    assert magnetite.score(one, two)["ssim"] == pytest.approx(luminance, abs=1e-9)
    bare = magnetite.score(one, two, "ssim k1=0 k2=0")
    assert math.isfinite(bare["ssim k1=0 k2=0"])


def test_laplacian_variance_of_known_pictures() -> None:
    assert magnetite.gauge(np.full((9, 9), 50, np.uint8))["laplacian-variance"] == 0
    ramp = np.tile(np.arange(0, 90, 10, dtype=np.uint8), (9, 1))
    assert magnetite.gauge(ramp)["laplacian-variance"] == 0
    board = np.indices((8, 8)).sum(0) % 2 * 1.0
    # Every inner sample has four opposite neighbours: the Laplacian is +4 or -4.
    assert laplacian_variance(board, peak=255) == pytest.approx(16)
    noise = np.random.default_rng(0).normal(0.5, 0.02, (400, 400))
    # Independent noise of sd s: (1 + 1 + 1 + 1 + 16) s².
    expected = 20 * (0.02 * 255) ** 2
    assert magnetite.gauge(noise)["laplacian-variance"] == pytest.approx(expected, rel=0.02)
    rgb = np.stack([board] * 3, -1)
    assert laplacian_variance(rgb, peak=255) == pytest.approx(16)


def test_what_does_not_fit_is_refused() -> None:
    gray, rgb = np.zeros((20, 20), np.uint8), np.zeros((20, 20, 3), np.uint8)
    with pytest.raises(PictureError, match="the colours differ"):
        magnetite.score(gray, rgb)
    with pytest.raises(PictureError, match="the sizes differ"):
        magnetite.score(gray, gray[:, :10])
    with pytest.raises(PictureError, match="the bit depths differ"):
        magnetite.score(gray, gray.astype(np.uint16))
    with pytest.raises(PictureError, match="11x11 does not fit a picture of 5x20"):
        magnetite.score(gray[:, :5], gray[:, :5])
    with pytest.raises(PictureError, match="at least 3x3"):
        magnetite.gauge(gray[:, :2])
    with pytest.raises(PictureError, match="these have 5 planes"):
        magnetite.gauge(np.zeros((20, 20, 5)))


def test_a_mask_in_colours_takes_samples_of_any_channel() -> None:
    rng = np.random.default_rng(6)
    one, other = rng.integers(0, 256, (2, 20, 30)).astype(np.uint8)
    mask = np.zeros((20, 30, 3), np.uint8)
    mask[2:9, 3:20, 1] = 255
    mask[12:15, 5:9, 2] = 1
    plane = mask.any(axis=2)
    expected = np.mean((one.astype(float) - other)[plane] ** 2)
    assert magnetite.score(one, other, "mse", mask=mask)["mse"] == pytest.approx(expected)


def test_samples_beyond_the_range_are_counted_where_they_are_scored() -> None:
    one = np.full((40, 50, 3), 0.5)
    other = one.copy()
    other[3, 4, 0], other[5, 6, 1], other[30, 2] = -0.1, 1.2, 1.5
    mask = np.zeros((40, 50), np.uint8)
    mask[:20, :40] = 1
    whole = magnetite.score(one, other, "mutual-information,psnr")
    part = magnetite.score(one, other, "mutual-information", mask=mask)
    words = "% of the samples lie beyond black and full scale; mutual-information take them"
    assert f"{5 / 60:.3g}{words}" in whole.remarks[0]  # 5 of 6000 samples
    assert f"{2 / 24:.3g}{words}" in part.remarks[0]  # 2 of 2400
    inside = np.zeros((40, 50), np.uint8)
    inside[31:] = 1
    assert not magnetite.score(one, other, "mutual-information", mask=inside).remarks
    wide = np.full((2000, 2000), 0.5)
    wide[7, 9] = 2
    (remark,) = magnetite.gauge(wide, "entropy").remarks
    assert "2.5e-05% of the samples lie beyond" in remark  # one of 4 million
    with pytest.raises(PictureError, match=r"2\.5e-05% of the samples leave the range"):
        magnetite.degrade(wide, "shift right=1", overflow="fail")


def test_repeats_of_several_references_have_a_mean_over_these() -> None:
    one = [("a", {"psnr": 30.0}), ("a", {"psnr": 32.0})]
    assert list(summarise_by_reference(one)) == ["a"]
    both = summarise_by_reference([*one, ("b", {"psnr": 40.0}), ("b", {"psnr": 44.0})])
    every = both[ALL_REFERENCES]["psnr"]
    assert (every.number, every.mean) == (2, pytest.approx((31 + 42) / 2))
    assert every.sd == pytest.approx(np.std([31, 42], ddof=1))


def test_repeats_of_infinite_figures_have_a_mean_where_there_is_one() -> None:
    rows = [{"psnr": math.inf, "snr": math.inf}, {"psnr": 30.0, "snr": -math.inf}]
    found = summarise(rows)
    assert found["psnr"] == Summary(2, math.inf, None, None, None)
    assert found["snr"] == Summary(2, None, None, None, None)
