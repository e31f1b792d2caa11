"""Each gauge grows with the property that its summary names, on six photographs."""

from __future__ import annotations

import io
from collections.abc import Callable

import numpy as np
import pytest
from PIL import Image
from scipy.ndimage import gaussian_filter

import magnetite
from magnetite.core.methods.catalogue import every
from magnetite.core.picture import Picture, as_picture
from photographs import Gray, photographs

Move = Callable[[Gray, float], Picture]


def stored(scene: Gray) -> Picture:
    return as_picture(np.rint(scene).clip(0, 255).astype(np.uint8))


def sharper(scene: Gray, sigma: float) -> Picture:
    """Of float samples: the rounding of strong blur is detail of its own."""
    return as_picture((gaussian_filter(scene, -sigma) if sigma else scene) / 255)


def blurred(scene: Gray, sigma: float) -> Picture:
    return stored(gaussian_filter(scene, sigma) if sigma else scene)


def degraded(step: str) -> Move:
    """A degradation with the level in the braces."""
    return lambda scene, level: magnetite.degrade(stored(scene), step.format(level)).picture


def noisy(scene: Gray, sd: float) -> Picture:
    return degraded("gaussian-noise sd={}dn")(scene, sd)


def coded(scene: Gray, step: float) -> Picture:
    return magnetite.compress(stored(scene), f"dct step={step}dn block=8 smooth=off").picture


def darker(scene: Gray, shift: float) -> Picture:
    return stored(scene - shift)


def brighter(scene: Gray, level: float) -> Picture:
    return stored(scene * level)


#: Gauge, and the change and levels with which it grows.
MOVES: dict[str, tuple[Move, tuple[float, ...]]] = {
    "blockiness": (coded, (24, 48, 96)),
    "false-contours": (degraded("quantize levels={}"), (64, 32, 16, 8, 4, 2)),
    "edge-width": (blurred, (0, 0.7, 1.2, 2, 3)),
    "noise-blocks": (noisy, (0, 2, 4, 8, 16)),
    "noise-wavelet": (noisy, (0, 2, 4, 8, 16)),
    "noise-mask": (noisy, (0, 2, 4, 8, 16)),
    "impulse-share": (degraded("salt-pepper density={}%"), (0.1, 1, 3, 8)),
    "laplacian-variance": (sharper, (-3, -2, -1, -0.7, 0)),
    "tenengrad": (sharper, (-3, -2, -1, -0.7, 0)),
    "brenner": (sharper, (-3, -2, -1, -0.7, 0)),
    "high-frequency-share": (sharper, (-3, -2, -1, -0.7, 0)),
    "mean": (brighter, (0.2, 0.4, 0.7, 1)),
    "sd": (brighter, (0.2, 0.4, 0.7, 1)),
    "entropy": (degraded("quantize levels={}"), (2, 4, 8, 16, 32, 64)),
    "black-share": (darker, (40, 70, 100, 140)),
    "white-share": (brighter, (1.5, 2, 3, 5)),
    "dynamic-range": (noisy, (16, 8, 4, 2)),
    "activity": (noisy, (0, 2, 4, 8, 16)),
}
#: Gauges of a position or a width, of charts, of a model, and one with a file of tests of its own.
OTHERS = {"block-width", "block-height", "block-left", "block-top", "mtf50", "mtf10", "naturalness",
          "ringing", "edge-count", "edge-width-error"}  # fmt: skip


def test_every_gauge_is_moved() -> None:
    assert set(MOVES) | OTHERS == {method.name for method in every("gauge")}
    assert not set(MOVES) & OTHERS


@pytest.mark.parametrize("name", MOVES)
def test_a_gauge_grows_with_its_property(name: str) -> None:
    """At least 95 % of the pairs of neighbouring levels are in order."""
    make, levels = MOVES[name]
    found = np.array([
        [magnetite.gauge(make(scene, level), name)[name] for level in levels]
        for scene in photographs()
    ], float)  # fmt: skip
    assert np.mean(np.diff(found, axis=1) > 0) >= 0.95, found.round(4)


def test_the_interval_of_edge_width_holds() -> None:
    """Fields of 64x64 with an edge each, of a sigma drawn for it: the mean over all sigmas."""
    rng, held, widths = np.random.default_rng(1), [], []
    step = np.where(np.arange(64) < 32, 60.0, 190.0)
    for _ in range(60):
        fields = [
            [np.tile(gaussian_filter(step, sigma), (64, 1)) for sigma in rng.uniform(1, 3, 4)]
            for _ in range(4)
        ]
        scene = as_picture(np.concatenate([np.hstack(row[::1]) for row in fields]) / 255)
        names = "edge-width,edge-width-error,edge-count"
        found = magnetite.gauge(scene, names)
        # Fields meet in steps, which are edges of 0.7 px: count those in the truth.
        widths.append(found["edge-width"])
        held.append(found["edge-width-error"])
        assert found["edge-count"] > 16 * 60
        (said,) = found.remarks
        half, count = found["edge-width-error"], int(found["edge-count"])
        assert f"± {half:.2g} px (95 %), of {count} edges" in said
    truth = np.mean(widths)
    inside = np.abs(np.array(widths) - truth) <= held
    assert 0.88 <= inside.mean() <= 1.0
    assert np.mean(held) < 4 * np.std(widths)


def test_borders_of_blocks_are_no_edges() -> None:
    """Coarser JPEG does not make pictures of soft edges sharper."""
    for scene in photographs(400)[:3]:
        soft = gaussian_filter(scene, 2.0).astype(np.uint8)
        widths = []
        for quality in (95, 60, 20, 10):
            buffer = io.BytesIO()
            Image.fromarray(soft).save(buffer, "JPEG", quality=quality)
            widths.append(magnetite.gauge(np.asarray(Image.open(buffer)), "edge-width"))
        each = [width["edge-width"] for width in widths]
        assert min(each) > 0.965 * each[0], each
