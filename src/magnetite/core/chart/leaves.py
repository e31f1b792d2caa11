"""Dead leaves: disks that cover each other, a texture whose spectrum keeps its form at each scale.

Matheron, Modèle séquentiel de partition aléatoire (1968); Lee, Mumford and Huang, International
J. Computer Vision 41, 2001, doi:10.1023/A:1011109015675; ISO/TS 19567-2:2019.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float64

#: Samples of the raster for each px, along each axis.
OVERSAMPLING = 8
#: Radii from the smallest, px, to the largest, a share of the field's side.
_LEAST, _LARGEST = 1.5, 0.15
#: Light of leaves: uniform between these.
LIGHTS = (0.1, 0.7)
#: Leaves that are drawn at a time, and the share of the field that may stay bare in the end.
_BATCH, _BARE = 2_000, 1e-3


@dataclass(frozen=True)
class Leaves:
    """A square field and its leaves, the uppermost first; columns x, y, radius and light."""

    left: float
    top: float
    size: float
    disks: Float64

    def raster(self) -> Float64:
        """Light of the field, shape (n, n), 8 samples a px; float64."""
        canvas = _Canvas(self.left, self.top, self.size)
        for disk in self.disks:
            canvas.paint_under(disk)
        return canvas.finished()


def scatter(left: float, top: float, size: float, seed: int) -> Leaves:
    """Draw leaves until they cover a field.

    Centres are uniform, the density of radii falls as radius^-3 from 1.5 px to 15 % of the side,
    and light is uniform from 0.1 to 0.7. Leaves that others hide are left out.

    Parameters
    ----------
    left, top, size : float
        Of the field, px.
    seed : int

    Returns
    -------
    Leaves
    """
    rng = np.random.default_rng(seed)
    canvas = _Canvas(left, top, size)
    visible: list[Float64] = []
    least, largest = _LEAST, _LARGEST * size
    while canvas.bare > _BARE:
        x, y, share, gray = rng.random((4, _BATCH))
        # The inverse of the distribution whose density falls as radius^-3 between two ends.
        radius = least / np.sqrt(1 - share * (1 - (least / largest) ** 2))
        centres = (start + v * (size + 2 * largest) - largest for start, v in ((left, x), (top, y)))
        light = LIGHTS[0] + (LIGHTS[1] - LIGHTS[0]) * gray
        disks = np.round(np.stack([*centres, radius, light], axis=1), 4)
        visible += [disk for disk in disks if canvas.paint_under(disk)]
    return Leaves(left, top, size, np.array(visible))


class _Canvas:
    """A field that is painted from the uppermost leaf down."""

    def __init__(self, left: float, top: float, size: float) -> None:
        side = math.ceil(size * OVERSAMPLING)
        self._light: Float64 = np.full((side, side), np.nan)
        self._origin = left, top
        self._centres = (np.arange(side) + 0.5) / OVERSAMPLING

    @property
    def bare(self) -> float:
        """Share of the field that no leaf covers yet."""
        return float(np.isnan(self._light).mean())

    def paint_under(self, disk: Float64) -> bool:
        """Paint a leaf under those that are there; whether any of it shows."""
        x, y, radius, light = (float(v) for v in disk)
        x, y = x - self._origin[0], y - self._origin[1]
        columns, rows = (
            slice(*np.searchsorted(self._centres, (v - radius, v + radius))) for v in (x, y)
        )
        part = self._light[rows, columns]
        bare = np.isnan(part)
        if not bare.any():
            return False
        down, across = self._centres[rows, np.newaxis] - y, self._centres[columns] - x
        shown = bare & (down**2 + across**2 <= radius**2)
        part[shown] = light
        return bool(shown.any())

    def finished(self) -> Float64:
        """The light; where no leaf is, the mean."""
        return np.where(np.isnan(self._light), sum(LIGHTS) / 2, self._light)
