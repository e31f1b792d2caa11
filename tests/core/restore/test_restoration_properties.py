"""What must hold of restorations whatever the picture."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import settings as tried
from hypothesis import strategies as st
from hypothesis.extra.numpy import array_shapes, arrays

import magnetite
from conftest import Run, arguments, texture
from magnetite.core.chain.notation import parse_chain
from magnetite.core.operations.restore import restore
from magnetite.core.picture import Picture, as_picture
from restorations import STEPS, apply, psnr

#: Weighted means of samples, and medians: nothing they make lies outside what was there.
MEANS = {
    "mean": {"size": 5}, "gaussian": {"sigma": 1.5}, "median": {"size": 5},
    "adaptive-median": {}, "bilateral": {"range": 0.2}, "nl-means": {"sd": 0.1, "search": 7},
    "anisotropic-diffusion": {"range": 0.2}, "total-variation": {"strength": 0.1},
}  # fmt: skip
#: The same seen in a mirror is the mirror image of the result, up to rounding.
MIRRORED = {
    "mean": {"size": 5}, "gaussian": {"sigma": 1.5}, "median": {"size": 7},
    "adaptive-median": {}, "bilateral": {"range": 0.2}, "nl-means": {"sd": 0.1, "search": 7},
    "anisotropic-diffusion": {"range": 0.2}, "wiener": {"sd": 0.1}, "guided": {"range": 0.2},
    "sharpen": {}, "sliding-dct": {"sd": 0.1}, "dequantize": {"step": 0.1},
    "dering": {"range": 0.1}, "richardson-lucy": {"sigma": 1.2, "smoothness": 0.0},
}  # fmt: skip
#: A little more light everywhere is the same little more in the result.
LIFTED = {
    "mean": {"size": 5}, "gaussian": {"sigma": 1.5}, "median": {"size": 5},
    "bilateral": {"range": 0.2}, "nl-means": {"sd": 0.05, "search": 7}, "wiener": {"sd": 0.05},
    "guided": {"range": 0.2}, "anisotropic-diffusion": {"range": 0.2}, "sharpen": {},
    "sliding-dct": {"sd": 0.05}, "wavelet-shrink": {"sd": 0.05}, "bm3d": {"sd": 0.05},
    "total-variation": {"strength": 0.05}, "wiener-deblur": {"sigma": 1.2, "sd": 0.01},
    "deblock": {"step": 0.2}, "dering": {"range": 0.1}, "dequantize": {"step": 0.1},
}  # fmt: skip

planes = arrays(
    np.float32,
    array_shapes(min_dims=2, max_dims=2, min_side=1, max_side=14),
    elements=st.floats(0, 1, width=32),
)


@given(planes)
def test_means_and_medians_stay_within_what_was_there(plane: np.ndarray) -> None:
    for name, settings in MEANS.items():
        result = apply(name, plane, **settings)
        assert result.shape == plane.shape
        assert plane.min() - 1e-5 <= result.min(), name
        assert result.max() <= plane.max() + 1e-5, name


@pytest.mark.parametrize("name", STEPS)
@tried(max_examples=25)
@given(plane=planes)
def test_any_picture_of_any_size_gives_finite_samples(name: str, plane: np.ndarray) -> None:
    step = parse_chain(f"{name} {STEPS[name]}", "restoration").steps[0]
    result = step.method.function(plane, **arguments(step))
    assert (result.shape, result.dtype) == (plane.shape, plane.dtype)
    assert np.isfinite(result).all()


@pytest.mark.parametrize("name", MIRRORED)
def test_a_mirror_image_gives_the_mirror_image(name: str) -> None:
    plane = texture(41, 37).astype(np.float32)
    plain = apply(name, plane, **MIRRORED[name])
    for turn in (lambda x: x[::-1], lambda x: x[:, ::-1], lambda x: x.T):
        turned = apply(name, np.ascontiguousarray(turn(plane)), **MIRRORED[name])
        np.testing.assert_allclose(turned, turn(plain), atol=2e-5)


@pytest.mark.parametrize("name", LIFTED)
def test_more_light_everywhere_is_as_much_more_in_the_result(name: str) -> None:
    plane = (0.1 + 0.6 * texture(41, 37)).astype(np.float64)
    plain, lifted = (apply(name, x, **LIFTED[name]) for x in (plane, plane + 0.125))
    np.testing.assert_allclose(lifted - 0.125, plain, atol=2e-4)


@pytest.mark.parametrize("name", STEPS)
def test_depths_of_one_picture_agree_up_to_their_rounding(name: str) -> None:
    coarse = (255 * (0.1 + 0.8 * texture(40, 44))).astype(np.uint8)
    step = f"{name} {STEPS[name]}"
    results = [
        restore(picture, step).picture.pixels()
        for picture in (
            as_picture(coarse),
            Picture(coarse.astype(np.uint16) * 257, 16, "gray"),
            as_picture(coarse.astype(np.float64) / 255),
        )
    ]
    np.testing.assert_allclose(results[0], results[1], atol=0.51 / 255 + 1e-4)
    np.testing.assert_allclose(results[1], results[2].clip(0, 1), atol=1e-3)


@pytest.mark.parametrize("name", STEPS)
def test_channels_are_treated_alike(name: str) -> None:
    """Three equal channels stay equal; methods of each channel give that of the plane alone."""
    plane = (0.1 + 0.8 * texture(33, 40)).astype(np.float32)
    step = parse_chain(f"{name} {STEPS[name]}", "restoration").steps[0]
    settings = arguments(step)
    alone = step.method.function(plane, **settings)
    together = step.method.function(np.dstack([plane] * 3), **settings)
    np.testing.assert_allclose(together[..., 1], together[..., 0], atol=1e-5)
    if step.method.colour.value == "each channel separately":
        np.testing.assert_array_equal(together[..., 2], alone)


def test_steps_of_a_chain_follow_one_another_without_rounding() -> None:
    picture = as_picture((255 * texture(48, 52)).astype(np.uint8))
    chain = "gaussian sigma=0.8 + sharpen amount=0.5 + median"
    pixels = picture.pixels()
    for name, settings in (("gaussian", {"sigma": 0.8}), ("sharpen", {"amount": 0.5}),
                           ("median", {})):  # fmt: skip
        pixels = apply(name, pixels, **settings)
    expected, clipped = picture.with_pixels(pixels)
    restored = restore(picture, chain)
    assert restored.picture.same_samples(expected)
    assert restored.clipped == clipped
    assert restored.chain == "gaussian sigma=0.8px + sharpen amount=0.5 + median"


def test_the_sd_of_the_noise_is_found_where_the_chain_has_come_to() -> None:
    clean = 0.5 + 0.3 * np.sin(np.mgrid[:128, :160].sum(axis=0) / 25)
    noise = np.random.default_rng(2).normal(0, 0.06, clean.shape)
    worn = as_picture(np.rint(255 * (clean + noise)).clip(0, 255).astype(np.uint8))
    known = restore(worn, "sliding-dct").chain
    assert float(known.split("sd=")[1].removesuffix("dn")) == pytest.approx(0.06 * 255, rel=0.05)
    assert restore(worn, known).picture.same_samples(restore(worn, "sliding-dct sd=auto").picture)
    left = restore(worn, "gaussian sigma=1 + sliding-dct").chain.split("sd=")[1]
    assert float(left.removesuffix("dn")) < 0.03 * 255
    assert psnr(restore(worn, "bm3d").picture.pixels(), clean) > psnr(worn.pixels(), clean) + 8


def test_clipping_at_the_end_is_said(tmp_path: object, run: Run) -> None:
    bars = np.tile(np.repeat([0, 255], 8), (40, 4)).astype(np.uint8)
    magnetite.write(as_picture(bars), tmp_path / "bars.png")
    chain = "gaussian sigma=0.6 + sharpen amount=3"
    done = run("restore", "bars.png", "out.png", *chain.split())
    assert "of the samples were clipped" in done.stderr
    wide = as_picture(bars.astype(np.float32) / 255)
    assert restore(wide, chain).picture.samples.max() > 1.05
