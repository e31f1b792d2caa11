"""A photograph of a core tray: rows of round core in a box, lit from above."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from magnetite.synthetic.fields import Field, clouds, smoothstep

ROWS = 3
#: Share of a row's height that the core fills; the rest is tray.
CORE_SHARE = 0.86
Rock = Callable[[tuple[int, int], np.random.Generator], Field]


def photograph(rock: Rock, width: int, height: int, rng: np.random.Generator) -> Field:
    """RGB samples, shape (height, width, 3), 0 to 1, of a tray filled with one rock."""
    picture = _tray_floor(width, height, rng)
    pitch = height / ROWS
    radius = CORE_SHARE * pitch / 2
    for row in range(ROWS):
        centre = (row + 0.5) * pitch
        top, bottom = int(np.ceil(centre - radius)), int(np.floor(centre + radius))
        across = (np.arange(top, bottom + 1) - centre) / radius
        core = _lit_core(rock, width, radius, across, rng)
        edge = smoothstep(0.0, 1.6 / radius, 1 - np.abs(across))[:, np.newaxis]
        present = edge * (1 - _breaks(width, across, rng))
        patch = picture[top : bottom + 1]
        patch += (core - patch) * present[..., np.newaxis]
    return picture.clip(0.0, 1.0)


def _tray_floor(width: int, height: int, rng: np.random.Generator) -> Field:
    """Grey sheet metal with a ridge between the rows."""
    y = np.arange(height)[:, np.newaxis] / height * ROWS
    from_ridge = np.abs(y - np.round(y)) * height / ROWS
    ridge = np.exp(-((from_ridge / 3.0) ** 2))
    metal = 0.17 + 0.22 * ridge + 0.008 * clouds((height, width), rng, 0.8, 40)
    return np.asarray(metal[..., np.newaxis] * np.array([0.95, 1.0, 1.04]))


def _lit_core(
    rock: Rock, width: int, radius: float, across: Field, rng: np.random.Generator
) -> Field:
    """The visible half of the cylinder, unrolled texture and light from above."""
    from scipy.ndimage import map_coordinates

    angle = np.arcsin(across.clip(-1, 1))
    surface = rock((int(np.ceil(np.pi * radius)) + 2, width), rng)
    position = (angle + np.pi / 2) * radius
    rows = np.broadcast_to(position[:, np.newaxis], (across.size, width))
    columns = np.broadcast_to(np.arange(width), rows.shape)
    seen = [map_coordinates(surface[..., c], [rows, columns], order=1) for c in range(3)]
    light = 0.30 + 0.80 * np.cos(angle + 0.45).clip(0, None)
    gloss = 0.07 * np.exp(-(((angle + 0.55) / 0.16) ** 2))
    lit = np.stack(seen, -1) * light[:, np.newaxis, np.newaxis]
    return np.asarray(lit + gloss[:, np.newaxis, np.newaxis])


def _breaks(width: int, across: Field, rng: np.random.Generator) -> Field:
    """Gaps between the pieces of a row: 1 in a gap, 0 on rock."""
    from scipy.ndimage import gaussian_filter1d

    gaps = np.zeros((across.size, width))
    x = np.arange(width)
    for start in np.cumsum(rng.uniform(0.22, 0.45, 4)) * width:
        path = gaussian_filter1d(rng.standard_normal(across.size).cumsum(), 1.5, mode="nearest")
        path = start + 0.8 * (path - path.mean()) + rng.normal(0, 9) * across
        half = rng.uniform(1.0, 2.2)
        gaps = np.maximum(gaps, 1 - smoothstep(half, half + 1.2, np.abs(x - path[:, np.newaxis])))
    return gaps
