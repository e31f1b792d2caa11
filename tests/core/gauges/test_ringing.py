"""Ringing grows with what adds ripples and overshoots, and not with blur, ramps or noise."""

from __future__ import annotations

import io
from collections.abc import Callable

import numpy as np
import pytest
from PIL import Image
from scipy.ndimage import gaussian_filter

import magnetite
from magnetite.core.gauges.ringing import ringing
from photographs import Gray, photographs


def low_pass(scene: Gray, cutoff: float) -> Gray:
    """A sinc filter that cuts off at cycles/px, after a mirrored border."""
    padded = np.fft.fft2(np.pad(scene, 32, mode="reflect"))
    down, across = (np.abs(np.fft.fftfreq(n)) > cutoff for n in padded.shape)
    padded[down[:, np.newaxis] | across] = 0
    return np.asarray(np.rint(np.fft.ifft2(padded).real[32:-32, 32:-32]).clip(0, 255))


def coded(scene: Gray, **options: object) -> Gray:
    buffer = io.BytesIO()
    Image.fromarray(scene.astype(np.uint8)).save(buffer, **options)  # type: ignore[arg-type]
    return np.asarray(Image.open(buffer), float)


def sharpened(scene: Gray, amount: float) -> Gray:
    return np.asarray(np.rint(scene + amount * (scene - gaussian_filter(scene, 1.0))).clip(0, 255))


def deblurred(scene: Gray, factor: float) -> Gray:
    """A blur of 1.2 px undone by a multiple of its sigma."""
    blurred = np.rint(gaussian_filter(scene, 1.2, mode="reflect")).astype(np.uint8)
    step = f"wiener-deblur sigma={1.2 * factor:.4g}px sd=1dn"
    return np.asarray(magnetite.restore(blurred, step).picture.samples, float)


MOVES: dict[str, tuple[Callable[[Gray, float], Gray], tuple[float, ...]]] = {
    "low-pass filter": (low_pass, (0.5, 0.35, 0.25)),
    "JPEG": (lambda s, q: coded(s, format="JPEG", quality=int(q)), (95, 80, 60, 40, 20, 10)),
    "JPEG 2000": (
        lambda s, r: coded(s, format="JPEG2000", quality_mode="rates", quality_layers=[r],
                           irreversible=True), (5, 10, 20, 40),
    ),
    "sharpening": (sharpened, (0, 0.5, 1, 2, 4)),
    "deblurring": (deblurred, (1, 1.25, 1.5, 2)),
}  # fmt: skip


@pytest.mark.long
def test_ringing_grows_with_each_cause() -> None:
    """At least 95 % of the pairs of neighbouring levels are in order, over six photographs."""
    for name, (make, levels) in MOVES.items():
        found = np.array([
            [ringing(make(scene, level), 255.0) for level in levels] for scene in photographs(400)
        ])  # fmt: skip
        assert np.mean(np.diff(found, axis=1) > 0) >= 0.95, (name, found.round(2))


def test_blur_ramps_and_noise_have_no_ringing() -> None:
    """A step of any blur only rises; noise alone has as much beside its steepest samples."""
    step = np.tile(np.where(np.arange(160) < 80, 60.0, 190.0), (120, 1))
    for sigma in (0, 1, 3):
        assert ringing(gaussian_filter(step, sigma), 255.0) == pytest.approx(0, abs=1e-6)
    ripple = low_pass(step, 0.25)
    assert ringing(ripple, 255.0) > 10
    # Full scale 1 gives the same share of full scale, and rows the same as columns.
    assert ringing(ripple / 255) == pytest.approx(ringing(ripple, 255.0) / 255, rel=1e-9)
    assert ringing(ripple.T, 255.0) == pytest.approx(ringing(ripple, 255.0), rel=1e-9)
    blurred = [ringing(gaussian_filter(s, 2), 255.0) < ringing(s, 255.0) for s in photographs(400)]
    assert sum(blurred) >= 5
    noise = np.random.default_rng(0).normal(128, 10, (200, 200))
    assert ringing(noise, 255.0) < 0.25 * 10
    assert ringing(np.full((40, 40), 9.0), 255.0) == 0


def test_the_figure_is_its_definition() -> None:
    """A step of 100 dn with one overshoot of 20 dn beside it, on ground of excess variation 0.

    Three columns from the crest on the line falls by 20: rise and fall are 2 x 20 more than the
    difference of the ends; the 0.3 dn of rounding stand for the ground's own.
    """
    line = np.where(np.arange(200) < 100, 50.0, 150.0)
    line[103] += 20
    scene = np.tile(line, (150, 1))
    left, right = 0.0, 40.0
    mean = (left + right) / 2
    assert ringing(scene, 255.0) == pytest.approx((mean - 0.3) * (mean / 0.3) ** 0.5 / 7, rel=0.15)
