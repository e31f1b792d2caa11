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


#: Gauge, the property that it grows with, the change, and its levels.
MOVES: dict[str, tuple[str, Move, tuple[float, ...]]] = {
    "blockiness": ("coarser transform coding", coded, (24, 48, 96)),
    "false-contours": ("fewer levels", degraded("quantize levels={}"), (64, 32, 16, 8, 4, 2)),
    "edge-width": ("blur", blurred, (0, 0.7, 1.2, 2, 3)),
    "noise-blocks": ("noise", noisy, (0, 2, 4, 8, 16)),
    "noise-wavelet": ("noise", noisy, (0, 2, 4, 8, 16)),
    "noise-mask": ("noise", noisy, (0, 2, 4, 8, 16)),
    "impulse-share": ("impulses", degraded("salt-pepper density={}%"), (0.1, 1, 3, 8)),
    "laplacian-variance": ("less blur", sharper, (-3, -2, -1, -0.7, 0)),
    "tenengrad": ("less blur", sharper, (-3, -2, -1, -0.7, 0)),
    "brenner": ("less blur", sharper, (-3, -2, -1, -0.7, 0)),
    "high-frequency-share": ("less blur", sharper, (-3, -2, -1, -0.7, 0)),
    "mean": ("exposure", brighter, (0.2, 0.4, 0.7, 1)),
    "sd": ("exposure", brighter, (0.2, 0.4, 0.7, 1)),
    "entropy": ("more levels", degraded("quantize levels={}"), (2, 4, 8, 16, 32, 64)),
    "black-share": ("underexposure", darker, (40, 70, 100, 140)),
    "white-share": ("overexposure", brighter, (1.5, 2, 3, 5)),
    "dynamic-range": ("less noise", noisy, (16, 8, 4, 2)),
    "activity": ("noise", noisy, (0, 2, 4, 8, 16)),
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
    _, make, levels = MOVES[name]
    found = np.array([
        [magnetite.gauge(make(scene, level), name)[name] for level in levels]
        for scene in photographs()
    ], float)  # fmt: skip
    assert np.mean(np.diff(found, axis=1) > 0) >= 0.95, found.round(4)


def edge_width_held(count: int) -> list[bool]:
    """Fields of 32x64 with one edge each, of a sigma drawn for it; truth: the mean over all draws.

    Every other field is mirrored, so that no edge stands between two.
    """
    rng, widths, errors = np.random.default_rng(1), [], []
    step = np.where(np.arange(64) < 16, 60.0, 190.0)
    for _ in range(count):
        fields = []
        for _ in range(8):
            edges = [gaussian_filter(step, sigma) for sigma in rng.uniform(1.5, 3, 4)]
            rows = np.hstack([edge[:: 1 - 2 * (k % 2)] for k, edge in enumerate(edges)])
            fields.append(np.tile(rows, (32, 1)))
        scene = as_picture(np.concatenate(fields) / 255)
        found = magnetite.gauge(scene, "edge-width,edge-width-error,edge-count")
        widths.append(found["edge-width"])
        errors.append(found["edge-width-error"])
        assert found["edge-count"] == 4 * 254  # the first and the last row have none
        (said,) = magnetite.gauge(scene, "edge-width").remarks
        assert f"± {errors[-1]:.2g} px (95 %), of {found['edge-count']:.0f} edges" in said
    assert np.mean(errors) < 4 * np.std(widths)
    return (np.abs(np.array(widths) - np.mean(widths)) <= errors).tolist()


def test_the_interval_of_edge_width_holds() -> None:
    assert np.mean(edge_width_held(60)) >= 0.88
    one = np.tile(np.where(np.arange(30) < 15, 60, 190), (30, 1)).astype(np.uint8)
    assert magnetite.gauge(one, "edge-width-error")["edge-width-error"] == np.inf


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
