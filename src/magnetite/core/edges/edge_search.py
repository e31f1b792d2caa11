"""Find slanted edges in a picture: straight, alone in their window, a few degrees off an axis."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from magnetite.core.arrays import Float32, Float64, Pixels
from magnetite.core.compute.filters import convolve_separable
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.picture.region import Region

#: Windows tried, along the edge and across it, px; the largest that holds an edge wins.
WINDOWS = ((160, 112), (112, 80), (80, 56), (56, 40), (40, 28))
#: Angle between edge and axis, degrees.
LEAST_ANGLE, MOST_ANGLE = 2.0, 14.0
#: Side of the cells in which gradients are summed, px.
_CELL = 4
#: Distance between the starts of windows, cells.
_STRIDE = 2
#: Gradients are taken after a Gaussian of this sd, px, so that noise does not hide the edge.
_SMOOTHING = 2.0
_LEAST_COHERENCE = 0.9
_MOST_CANDIDATES = 40


def candidates(plane: Pixels) -> Iterator[Region]:
    """Regions of a plane that may hold one slanted edge, best first for each size of window.

    The structure tensor, summed over a window, gives the strength of gradients there, their
    common direction, and how much they agree in it (Bigun and Granlund, ICCV 1987).
    """
    if min(plane.shape) < min(WINDOWS[-1]):
        return
    sums = _cumulated(_cell_tensor(plane))
    for along, across in WINDOWS:
        found = []
        for upright in (True, False):
            size = (along, across) if upright else (across, along)
            if size[0] <= plane.shape[0] and size[1] <= plane.shape[1]:
                found += _candidates_of(sums, size, upright)
        found.sort(key=lambda item: -item[0])
        for _, region in found[:_MOST_CANDIDATES]:
            yield region


def _cell_tensor(plane: Pixels) -> Float32:
    """Sums of gx², gy² and gx gy over cells, shape (3, rows, columns)."""
    smooth = convolve_separable(np.asarray(plane, np.float32), gaussian_kernel(_SMOOTHING))
    gx, gy = np.gradient(smooth, axis=1), np.gradient(smooth, axis=0)
    rows, columns = plane.shape[0] // _CELL, plane.shape[1] // _CELL
    parts = [
        part[: rows * _CELL, : columns * _CELL].reshape(rows, _CELL, columns, _CELL).sum((1, 3))
        for part in (gx * gx, gy * gy, gx * gy)
    ]
    return np.stack(parts)


def _candidates_of(
    sums: Float64, size: tuple[int, int], upright: bool
) -> list[tuple[float, Region]]:
    """Windows of a size with one direction of gradients, and how well the edge is centred."""
    height, width = size[0] // _CELL, size[1] // _CELL
    # Edges must run in the middle of the window: its outer parts should hold little.
    whole = _window_sums(sums, height, width)
    inner_size = (height, max(1, width // 2)) if upright else (max(1, height // 2), width)
    inner = _window_sums(sums, *inner_size)
    top, left = (height - inner_size[0]) // 2, (width - inner_size[1]) // 2
    inner = inner[:, top : top + whole.shape[1], left : left + whole.shape[2]]
    whole, inner = whole[:, ::_STRIDE, ::_STRIDE], inner[:, ::_STRIDE, ::_STRIDE]
    xx, yy, xy = whole
    energy = xx + yy
    safe = np.maximum(energy, 1e-12)
    coherence = np.hypot(xx - yy, 2 * xy) / safe
    centred = (inner[0] + inner[1]) / safe
    tilt = np.degrees(0.5 * np.arctan2(2 * xy, xx - yy))
    tilt = np.abs(tilt if upright else 90 - np.abs(tilt))
    fits = (tilt > LEAST_ANGLE) & (tilt < MOST_ANGLE) & (coherence > _LEAST_COHERENCE)
    fits &= energy > 0.02 * float(energy.max(initial=0.0))
    score = np.where(fits, energy * coherence * centred**4, 0)
    found = []
    positions = np.argwhere(score > 0)
    ranked = positions[np.argsort(-score[score > 0])]
    for row, column in ranked[:_MOST_CANDIDATES].tolist():
        region = Region(column * _STRIDE * _CELL, row * _STRIDE * _CELL, size[1], size[0])
        found.append((float(score[row, column]) / math.prod(size), region))
    return found


def _cumulated(tensor: Float32) -> Float64:
    """Sums over all cells above and to the left: any window's sum is four of them."""
    padded = np.pad(tensor, ((0, 0), (1, 0), (1, 0)))
    return np.asarray(padded.cumsum(2, dtype=np.float64).cumsum(1))


def _window_sums(sums: Float64, height: int, width: int) -> Float64:
    """Sums over all windows of the given number of cells."""
    return np.asarray(
        sums[:, height:, width:]
        - sums[:, :-height, width:]
        - sums[:, height:, :-width]
        + sums[:, :-height, :-width]
    )
