"""A chart plate: slanted edges, star, gray steps, colour patches, fine lines."""

from __future__ import annotations

import numpy as np

from magnetite.synthetic.fields import Field

#: Supersampling per axis: each sample is a mean of its square, so that edges are anti-aliased.
OVERSAMPLING = 3
_BACKGROUND = 0.55
_DARK, _LIGHT = 0.12, 0.88
_PATCHES = np.array(
    [
        [0.72, 0.16, 0.14], [0.16, 0.50, 0.20], [0.13, 0.22, 0.60], [0.86, 0.74, 0.14],
        [0.62, 0.18, 0.50], [0.10, 0.55, 0.60], [0.80, 0.46, 0.16], [0.75, 0.58, 0.48],
    ]
)  # fmt: skip


def plate(width: int, height: int) -> Field:
    """RGB samples, shape (height, width, 3), 0 to 1."""
    fine = np.full((height * OVERSAMPLING, width * OVERSAMPLING, 3), _BACKGROUND, np.float32)
    tall = height / width
    x = np.arange(fine.shape[1], dtype=np.float32) / fine.shape[1]
    y = np.arange(fine.shape[0], dtype=np.float32) / fine.shape[0] * tall
    _square(fine, x, y, (0.14, 0.29 * tall), 0.085, 5.0)
    _square(fine, x, y, (0.86, 0.29 * tall), 0.085, -5.0)
    _star(fine, x, y, (0.50, 0.36 * tall), 0.30 * tall)
    _row(fine, x, y, 0.76 * tall, 0.86 * tall, np.repeat(np.linspace(0, 1, 12), 3).reshape(-1, 3))
    _row(fine, x, y, 0.88 * tall, 0.97 * tall, _PATCHES)
    _gratings(fine, x, y, width, tall)
    shape = (height, OVERSAMPLING, width, OVERSAMPLING, 3)
    return np.asarray(fine.reshape(shape).mean(axis=(1, 3)))


def _around(
    fine: Field, x: Field, y: Field, centre: tuple[float, float], reach: float
) -> tuple[Field, Field, Field]:
    """A view of the samples around a point, and their positions from it, a row and a column."""
    (left, right), (top, bottom) = (
        np.searchsorted(axis, (at - reach, at + reach))
        for axis, at in zip((x, y), centre, strict=True)
    )
    dx, dy = x[left:right] - centre[0], y[top:bottom, np.newaxis] - centre[1]
    return fine[top:bottom, left:right], dx, dy


def _square(
    fine: Field, x: Field, y: Field, centre: tuple[float, float], half: float, degrees: float
) -> None:
    turn = np.deg2rad(degrees)
    part, dx, dy = _around(fine, x, y, centre, 1.5 * half)
    u = dx * np.cos(turn) + dy * np.sin(turn)
    v = dy * np.cos(turn) - dx * np.sin(turn)
    part[(np.abs(u) < half) & (np.abs(v) < half)] = _DARK


def _star(fine: Field, x: Field, y: Field, centre: tuple[float, float], radius: float) -> None:
    """Sectors, dark and light in turn, 36 pairs."""
    part, dx, dy = _around(fine, x, y, centre, 1.01 * radius)
    inside = np.hypot(dx, dy) < radius
    dark = np.sin(36 * np.arctan2(dy, dx)) > 0
    part[inside] = np.where(dark, _DARK, _LIGHT)[inside][:, np.newaxis]


def _row(fine: Field, x: Field, y: Field, top: float, bottom: float, colours: Field) -> None:
    """A row of patches from edge to edge."""
    position = ((x - 0.03) / 0.94 * len(colours)).astype(int)
    across = (x > 0.03) & (x < 0.97)
    patches = colours[position[across].clip(0, len(colours) - 1)]
    fine[np.ix_((y > top) & (y < bottom), across)] = patches


def _gratings(fine: Field, x: Field, y: Field, width: int, tall: float) -> None:
    """Lines of 16, 8, 5 and 3 px period under the squares."""
    down = (y > 0.53 * tall) & (y < 0.72 * tall)
    for side in (0.03, 0.76):
        for i, period in enumerate((16, 8, 5, 3)):
            left = side + i * 0.054
            across = (x > left) & (x < left + 0.048)
            dark = (x[across] - left) * width % period < period / 2
            fine[np.ix_(down, across)] = np.where(dark, _DARK, _LIGHT)[:, np.newaxis]
