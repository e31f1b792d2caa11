"""Rock surfaces: reflectance in RGB, 0 to 1, unrolled from the core."""

from __future__ import annotations

import numpy as np

from magnetite.synthetic.fields import Field, cells, clouds, mix, smoothstep


def ironstone(shape: tuple[int, int], rng: np.random.Generator) -> Field:
    """Banded ironstone: tilted layers of dark iron oxide, red jasper and ochre chert."""
    y, x = np.indices(shape, dtype=np.float64)
    along = x + 0.35 * y + 5 * clouds(shape, rng, 2.2, 180)
    along -= along.min()
    edges = np.cumsum(rng.gamma(1.6, 6.0, int(along.max() / 4) + 20))
    palette = np.array(
        [[0.24, 0.23, 0.25], [0.46, 0.24, 0.20], [0.62, 0.47, 0.33], [0.33, 0.27, 0.26]]
    )
    chosen = palette[rng.choice(4, edges.size + 1, p=[0.38, 0.27, 0.15, 0.20])]
    chosen *= rng.normal(1, 0.08, (edges.size + 1, 1))
    position = np.searchsorted(edges, along)
    bands = chosen[position]
    laminae = 0.03 * np.sin(along * 1.9 + clouds(shape, rng, 1.5, 60))
    grain = 0.022 * clouds(shape, rng, 0.6, 30)
    return np.asarray(bands + (laminae + grain)[..., np.newaxis])


def granite(shape: tuple[int, int], rng: np.random.Generator) -> Field:
    """Speckled granite: small interlocking crystals of feldspar, quartz and black mica."""
    position, border, count = cells(shape, rng, 5.0, 0.9 * clouds(shape, rng, 1.0, 12))
    minerals = np.array([[0.83, 0.79, 0.75], [0.58, 0.58, 0.60], [0.12, 0.12, 0.13]])
    kind = rng.choice(3, count, p=[0.46, 0.32, 0.22])
    tint = minerals[kind] * rng.normal(1, 0.07, (count, 1))
    seams = 0.82 + 0.18 * smoothstep(0.0, 0.9, border)
    return (
        tint[position] * seams[..., np.newaxis]
        + 0.03 * clouds(shape, rng, 0.3, 10)[..., np.newaxis]
    )


def breccia(shape: tuple[int, int], rng: np.random.Generator) -> Field:
    """Quartz-veined breccia: broken clasts, each with a grain of its own, healed by white veins."""
    warp = 7 * clouds(shape, rng, 1.9, 70)
    position, border, count = cells(shape, rng, 46.0, warp)
    tint = np.array([0.36, 0.30, 0.26]) * rng.normal(1, 0.28, (count, 1)).clip(0.45, 1.6)
    tint = tint * rng.normal(1, 0.035, (count, 3))
    roughness = rng.uniform(0.02, 0.075, count)
    clasts = tint[position] + (roughness[position] * clouds(shape, rng, 0.7, 20))[..., np.newaxis]
    width = 1.3 + 1.5 * smoothstep(-0.5, 2.0, clouds(shape, rng, 2.0, 160))
    veins = 1 - smoothstep(0.0, 1.0, (border - width) / 1.3)
    hairline = np.abs(clouds(shape, rng, 2.6, 110))
    veins = np.maximum(veins, 0.8 * (1 - smoothstep(0.015, 0.05, hairline)))
    quartz = np.array([0.90, 0.88, 0.84]) + 0.03 * clouds(shape, rng, 0.8, 14)[..., np.newaxis]
    return mix(clasts, quartz, veins)


def clay(shape: tuple[int, int], rng: np.random.Generator) -> Field:
    """Smooth clay: soft, slow changes of tone and a few faint seams."""
    y, x = np.indices(shape, dtype=np.float64)
    along = x + 0.2 * y + 9 * clouds(shape, rng, 2.6, 240)
    tone = 0.50 + 0.035 * clouds(shape, rng, 2.4, 200) + 0.03 * np.sin(along / 37)
    seams = 0.05 * np.exp(-((((along % 211) - 90) / 7) ** 2))
    return np.asarray(
        (tone - seams + 0.003 * clouds(shape, rng, 0.0, 4))[..., np.newaxis] * [1.0, 0.96, 0.90]
    )
