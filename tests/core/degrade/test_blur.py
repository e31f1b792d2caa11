"""Blur against closed forms and direct sums; resampling against what it must keep."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import ndimage
from scipy.optimize import brentq
from scipy.special import j1

import magnetite
from conftest import texture
from magnetite.core.compute import psf
from magnetite.core.compute.filters import convolve, convolve_separable
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.errors import PictureError

EDGE = np.repeat([0.1, 0.9], 200)[None].repeat(9, axis=0)


def box(width: int) -> object:
    """Contrast after the mean of an odd number of samples (Dirichlet's kernel)."""
    return lambda f: math.sin(math.pi * width * f) / (width * math.sin(math.pi * f))


CLOSED_FORMS = {
    "gaussian-blur sigma=1": lambda f: math.exp(-2 * (math.pi * f) ** 2),
    "gaussian-blur sigma=3.3": lambda f: math.exp(-2 * (math.pi * 3.3 * f) ** 2),
    "gaussian-blur sigma=12": lambda f: math.exp(-2 * (math.pi * 12 * f) ** 2),
    "box-blur size=5": box(5),
    "box-blur size=31": box(31),
    # Samples repeat the spectrum at whole frequencies (Poisson's sum).
    "box-blur size=4.4": lambda f: sum(
        np.sinc(4.4 * (f + k)) * np.sinc(f + k) for k in range(-60, 61)
    ),
    "defocus radius=2.5": lambda f: j1(5 * math.pi * f) / (2.5 * math.pi * f) * np.sinc(f),
    "defocus radius=9.3": lambda f: j1(18.6 * math.pi * f) / (9.3 * math.pi * f) * np.sinc(f),
    "motion-blur length=9": box(9),
    "motion-blur length=15.5": lambda f: np.sinc(15.5 * f) * np.sinc(f),
    "motion-blur length=20 angle=60": lambda f: np.sinc(10 * f) * np.sinc(f),
}


@pytest.mark.parametrize("step", CLOSED_FORMS)
def test_mtf50_of_a_blurred_edge_is_the_closed_form(step: str) -> None:
    degraded = magnetite.degrade(EDGE, step)
    assert degraded.certificate.verdict == "as asked"
    spread = np.diff(degraded.picture.samples[4])
    positions = np.arange(spread.size)

    def measured(f: float) -> float:
        return abs(np.exp(-2j * np.pi * f * positions) @ spread) / spread.sum()

    found = brentq(lambda f: measured(f) - 0.5, 1e-4, 0.3)
    assert found == pytest.approx(
        brentq(lambda f: CLOSED_FORMS[step](f) - 0.5, 1e-4, 0.3), rel=0.01
    )
    (certified,) = (
        f.drawn for f in degraded.certificate.steps[0].findings if f.quantity == "MTF50 x"
    )
    assert certified == pytest.approx(found, rel=0.001)


@pytest.mark.parametrize("boundary", ["mirror", "repeat", "wrap", "black"])
@pytest.mark.parametrize("dtype", [np.float32, np.float64])
def test_the_fast_route_is_the_direct_sum(boundary: str, dtype: type) -> None:
    plane = texture(53, 70).astype(dtype)
    mode = {"mirror": "reflect", "repeat": "nearest", "wrap": "wrap", "black": "constant"}[boundary]
    kernel = np.random.default_rng(0).random((9, 15))
    kernel /= kernel.sum()
    np.testing.assert_allclose(
        convolve(plane, kernel, boundary),
        ndimage.convolve(plane.astype(float), kernel, mode=mode), atol=1e-6,
    )  # fmt: skip
    for sigma in (0.7, 2.0, 30.0):
        line = gaussian_kernel(sigma)
        rows = ndimage.correlate1d(plane.astype(float), line, axis=0, mode=mode)
        direct = ndimage.correlate1d(rows, line, axis=1, mode=mode)
        np.testing.assert_allclose(convolve_separable(plane, line, boundary), direct, atol=1e-6)


def test_kernels_have_unit_sum_and_their_own_shape() -> None:
    for kernel in (psf.gaussian(2.2), psf.box(4.4), psf.disk(3.7), psf.motion(7.7, 33)):
        assert kernel.sum() == pytest.approx(1, abs=1e-14)
        np.testing.assert_allclose(kernel, kernel[::-1, ::-1], atol=1e-15)
    np.testing.assert_allclose(psf.segment(3), [1 / 3] * 3)
    np.testing.assert_allclose(psf.segment(2), [0.25, 0.5, 0.25])
    np.testing.assert_allclose(psf.motion(5, 90), np.full((5, 1), 0.2), atol=1e-12)
    np.testing.assert_allclose(psf.motion(3 * math.sqrt(2), 45), np.fliplr(np.eye(3)) / 3)
    # Pixels wholly inside a disk weigh the same, 1 / π r²; it is as wide as it says.
    disk = psf.disk(10.25)
    assert disk[10, 10] == pytest.approx(1 / (math.pi * 10.25**2), rel=1e-3)
    y, x = np.indices(disk.shape) - 10
    assert (disk * (x**2 + y**2)).sum() == pytest.approx(10.25**2 / 2 + 1 / 6, rel=1e-3)


def test_a_measured_kernel_is_applied_as_a_convolution(tmp_path: object) -> None:
    weights = np.array([[0, 0, 0], [0, 1, 3], [0, 0, 0]])
    np.save(tmp_path / "kernel.npy", weights)
    spot = np.zeros((7, 8))
    spot[3, 3] = 0.8
    step = f"psf-blur kernel={tmp_path}/kernel.npy"
    spread = magnetite.degrade(spot, step).picture.samples
    np.testing.assert_allclose(spread[3, 2:6], [0, 0.2, 0.6, 0], atol=1e-12)
    findings = {f.quantity: f for f in magnetite.degrade(spot, step).certificate.steps[0].findings}
    assert findings["centroid x"].drawn == pytest.approx(0.75)
    np.save(tmp_path / "kernel.npy", -weights)
    with pytest.raises(PictureError, match="0 or larger, and not all 0"):
        magnetite.degrade(spot, step)


@pytest.mark.parametrize("kernel", ["box", "linear", "cubic", "lanczos", "none"])
def test_resampling_keeps_flat_pictures_and_sizes(kernel: str) -> None:
    flat = np.full((31, 45), 0.3)
    small = magnetite.degrade(flat, f"downsample factor=2.5 kernel={kernel}").picture.samples
    assert small.shape == (12, 18)
    np.testing.assert_allclose(small, 0.3)
    up = "nearest" if kernel in ("box", "none") else kernel
    large = magnetite.degrade(flat, f"upsample factor=1.7 kernel={up}").picture.samples
    assert large.shape == (53, 76)
    np.testing.assert_allclose(large, 0.3)


def test_resampling_is_its_definition() -> None:
    plane = texture(12, 16)
    halved = magnetite.degrade(plane, "downsample factor=2").picture.samples
    np.testing.assert_allclose(halved, plane.reshape(6, 2, 8, 2).mean(axis=(1, 3)))
    doubled = magnetite.degrade(plane, "upsample factor=2 kernel=nearest").picture.samples
    np.testing.assert_array_equal(doubled, plane.repeat(2, axis=0).repeat(2, axis=1))
    every = magnetite.degrade(plane, "downsample factor=1 kernel=lanczos").picture.samples
    np.testing.assert_allclose(every, plane, atol=1e-12)
    x = np.arange(40) / 80
    curve = np.tile(0.1 + x - x**2, (4, 1))
    fine = (np.arange(120) + 0.5) / 3 - 0.5
    expected = 0.1 + fine / 80 - (fine / 80) ** 2
    # Keys's cubic gives back polynomials up to the second degree, away from the edges.
    cubic = magnetite.degrade(curve, "upsample factor=3 kernel=cubic").picture.samples
    np.testing.assert_allclose(cubic[5, 9:-9], expected[9:-9], atol=1e-9)


def test_a_codec_takes_what_a_step_before_it_left() -> None:
    gray = (texture(40, 60) * 255).astype(np.uint8)
    degraded = magnetite.degrade(gray, "downsample factor=2 + dct step=5%")
    assert degraded.picture.samples.shape == (20, 30)
    assert degraded.certificate.rms_difference is None


@pytest.mark.parametrize("boundary", ["mirror", "repeat", "wrap", "black"])
@pytest.mark.parametrize("shape", [(401, 403), (257, 700), (2, 70_000), (70_000, 3)])
@pytest.mark.parametrize("sigma", [0.6, 7.0])
def test_the_compiled_filter_is_the_direct_sum(
    boundary: str, shape: tuple[int, int], sigma: float
) -> None:
    """In tiles, at every boundary rule, also of sides that are shorter than the kernel."""
    modes = {"mirror": "reflect", "repeat": "nearest", "wrap": "wrap", "black": "constant"}
    plane = np.random.default_rng(shape[0]).random(shape)
    line = gaussian_kernel(sigma)
    expected = plane
    for axis in (0, 1):
        expected = ndimage.correlate1d(expected, line, axis=axis, mode=modes[boundary])
    np.testing.assert_allclose(convolve_separable(plane, line, boundary), expected, atol=1e-13)
    single = convolve_separable(plane.astype(np.float32), line, boundary)
    np.testing.assert_allclose(single, expected, atol=1e-6)
    small = plane[:40, :50]
    expected = small
    for axis in (0, 1):
        expected = ndimage.correlate1d(expected, line, axis=axis, mode=modes[boundary])
    np.testing.assert_allclose(convolve_separable(small, line, boundary), expected, atol=1e-12)
