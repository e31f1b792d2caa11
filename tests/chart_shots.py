"""Pictures of the chart by another program: rendered from its record alone, with known truth."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

Array = NDArray[Any]
DARK, LIGHT = 0.02, 0.95


def light_at(record: dict[str, Any], x: Array, y: Array) -> Array:
    """Light of the chart at positions, shape (..., 3): later elements cover earlier ones."""
    light = np.full((*x.shape, 3), record["background"], np.float32)
    near = Near(x, y)

    def cover(element: dict[str, Any], half: float, inside: Any, value: Any) -> None:
        rows, columns = near(element["x"], element["y"], half)
        u, v = x[rows, columns] - element["x"], y[rows, columns] - element["y"]
        light[rows, columns][inside(u, v)] = value

    def box(half: float) -> Any:
        return lambda u, v: (np.abs(u) <= half) & (np.abs(v) <= half)

    def disk(radius: float) -> Any:
        return lambda u, v: u * u + v * v <= radius**2

    for mark in record["marks"]:
        cover(mark, mark["side"] / 2, box(mark["side"] / 2), DARK)
        cover(mark, mark["outer"], disk(mark["outer"]), LIGHT)
        cover(mark, mark["inner"], disk(mark["inner"]), DARK)
    for dot in record["dots"]:
        cover(dot, dot["radius"], disk(dot["radius"]), DARK)
    for square in record["squares"]:
        turn, half = np.exp(-1j * np.radians(square["angle"])), square["side"] / 2

        def turned(u: Array, v: Array, turn: complex = turn, half: float = half) -> Array:
            own = (u + 1j * v) * turn
            return (np.abs(own.real) <= half) & (np.abs(own.imag) <= half)

        cover(square, square["side"], turned, square["light"])
    for patch in record["steps"] + record["colours"]:
        cover(patch, patch["side"] / 2, box(patch["side"] / 2), patch["light"])
    star = record["star"]
    rows, columns = near(star["x"], star["y"], star["radius"])
    own = (x[rows, columns] - star["x"]) + 1j * (y[rows, columns] - star["y"])
    wave = star["mean"] + star["amplitude"] * np.cos(star["cycles"] * np.angle(own))
    wave[np.abs(own) < star["cycles"] / np.pi] = star["mean"]
    inside = np.abs(own) <= star["radius"]
    light[rows, columns][inside] = wave[inside][:, np.newaxis]
    leaves = record["leaves"]
    half = leaves["size"] / 2
    rows, columns = near(leaves["left"] + half, leaves["top"] + half, half)
    u, v = x[rows, columns] - leaves["left"], y[rows, columns] - leaves["top"]
    inside = (np.minimum(u, v) >= 0) & (np.maximum(u, v) < leaves["size"])
    field = painted(leaves, 8)
    at = tuple((w[inside] * 8).astype(int) for w in (v, u))
    light[rows, columns][inside] = field[at][:, np.newaxis]
    return light


class Near:
    """Rows and columns of a smooth map of positions that may come near a point."""

    step = 8

    def __init__(self, x: Array, y: Array) -> None:
        self.x, self.y = (np.ascontiguousarray(w[:: self.step, :: self.step]) for w in (x, y))
        self.reach = 2 * self.step * float(np.abs(np.diff(x[:2, :2])).max() + 1)

    def __call__(self, cx: float, cy: float, half: float) -> tuple[slice, slice]:
        reach = half + self.reach
        coarse = (np.abs(self.x - cx) < reach) & (np.abs(self.y - cy) < reach)
        found = [np.flatnonzero(coarse.any(axis=axis)) * self.step for axis in (1, 0)]
        if not found[0].size:
            return slice(0), slice(0)
        return tuple(slice(max(0, f[0] - self.step), f[-1] + 2 * self.step) for f in found)  # type: ignore[return-value]


def painted(leaves: dict[str, Any], fine: int) -> Array:
    """The leaves from the lowest up."""
    side = int(np.ceil(leaves["size"] * fine))
    field = np.full((side, side), 0.4, np.float32)
    centres = (np.arange(side) + 0.5) / fine
    for chart_x, chart_y, radius, light in reversed(leaves["disks"]):
        x, y = chart_x - leaves["left"], chart_y - leaves["top"]
        rows, columns = (np.flatnonzero(np.abs(centres - w) <= radius) for w in (y, x))
        if rows.size and columns.size:
            part = field[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]
            part[
                np.add.outer((centres[rows] - y) ** 2, (centres[columns] - x) ** 2) <= radius**2
            ] = light
    return field


def corners_to(size: tuple[float, float], corners: Array) -> Array:
    """The homography of a picture's corners to others, by the null vector of its equations."""
    w, h = size
    rows = []
    for (x, y), (u, v) in zip([(0, 0), (w, 0), (w, h), (0, h)], corners, strict=True):
        rows += [[x, y, 1, 0, 0, 0, -u * x, -u * y, -u], [0, 0, 0, x, y, 1, -v * x, -v * y, -v]]
    return np.linalg.svd(np.array(rows, float))[2][-1].reshape(3, 3)


def placed(
    record: dict[str, Any], size: tuple[int, int], scale: float, degrees: float, skew: Array
) -> Array:
    """Corners of the chart in a picture: scaled and rotated about its middle, then skewed."""
    w, h = record["width"], record["height"]
    turn = np.exp(1j * np.radians(degrees))
    ends = [complex(-w, -h), complex(w, -h), complex(w, h), complex(-w, h)]
    own = np.array([end / 2 * scale * turn for end in ends])
    return np.stack([own.real + size[0] / 2, own.imag + size[1] / 2], axis=1) + skew


def chart_positions(
    homography: Array, k1: float, size: tuple[int, int], x: Array, y: Array, magnified: float = 1.0
) -> tuple[Array, Array]:
    """Chart positions of picture positions: the lens is undone by Newton's method on its radii."""
    x, y = ((w - side / 2) / magnified for w, side in zip((x, y), size, strict=True))
    if k1:
        seen = np.hypot(x, y) / (np.hypot(*size) / 2)
        radii = np.linspace(0, max(seen.max(), 1), 20_001)[1:]
        straight = radii.copy()
        for _ in range(5):
            straight -= (straight * (1 + k1 * straight**2) - radii) / (1 + 3 * k1 * straight**2)
        factor = np.interp(seen, radii, straight / radii)
        x, y = x * factor, y * factor
    x, y = x + size[0] / 2, y + size[1] / 2
    u, v, w = (row[0] * x + row[1] * y + row[2] for row in np.linalg.inv(homography))
    return u / w, v / w


def shot(
    record: dict[str, Any],
    size: tuple[int, int],
    homography: Array,
    *,
    k1: float = 0.0,
    sigma: float = 0.6,
    fine: int = 4,
    magnified: tuple[float, float, float] = (1.0, 1.0, 1.0),
) -> Array:
    """Linear light of a camera's picture, shape (h, w, 3): blur, then the aperture of each px."""
    width, height = size
    picture = np.empty((height, width, 3))
    x = (np.arange(width * fine) + 0.5) / fine
    y = (np.arange(height * fine) + 0.5) / fine
    grid = np.meshgrid(x, y, sparse=True)
    same = len(set(magnified)) == 1
    for channel in range(3):
        if channel == 0 or not same:
            at = chart_positions(homography, k1, size, *grid, magnified[channel])
            light = light_at(record, *at)
        blurred = ndimage.gaussian_filter(light[..., channel], sigma * fine, truncate=5)
        blocks = blurred.reshape(height, fine, width, fine)
        picture[..., channel] = blocks.mean(axis=(1, 3), dtype=np.float64)
    return picture


def transfer(frequency: Array, sigma: float) -> Array:
    """Of a Gaussian blur and a square px, along an axis."""
    return np.exp(-2 * (np.pi * sigma * frequency) ** 2) * np.sinc(frequency)
