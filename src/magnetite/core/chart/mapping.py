"""From the chart to its picture: a plane in perspective, seen through a lens with distortion."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float64

#: Most steps of the inversion of the lens, each of which leaves a few percent of the error, and the
#: change of a step at convergence, in half diagonals.
_INVERSIONS, _CONVERGED = 20, 1e-14


@dataclass(frozen=True)
class Mapping:
    """Positions of the chart to positions of the picture, px.

    A homography, then `r' = r (1 + k1 r² + k2 r⁴)` about the picture's centre, r in half diagonals
    of the picture (Brown, Photogrammetric Engineering 32(3), 1966).
    """

    homography: Float64
    k1: float
    k2: float
    width: int
    height: int

    def __call__(self, points: Float64) -> Float64:
        """Positions in the picture of chart positions, shape (..., 2)."""
        return self._lens(projected(self.homography, points))

    def inverse(self, points: Float64) -> Float64:
        """Chart positions of positions in the picture, shape (..., 2)."""
        centre, unit = self._frame()
        seen = (points - centre) / unit
        straight: Float64 = seen
        for _ in range(_INVERSIONS):
            square = (straight[..., :1] ** 2) + straight[..., 1:] ** 2
            before, straight = straight, seen / (1 + self.k1 * square + self.k2 * square**2)
            if np.abs(straight - before).max(initial=0.0) <= _CONVERGED:
                break
        plane: Float64 = straight * unit + centre
        back = np.asarray(np.linalg.inv(self.homography), np.float64)
        return projected(back, plane)

    def scale(self, point: Float64) -> float:
        """Px of the picture per px of the chart at a chart position."""
        step = np.array([[0.5, 0.0], [-0.5, 0.0], [0.0, 0.5], [0.0, -0.5]])
        right, left, down, up = self(point + step)
        across, along = right - left, down - up
        return float(np.sqrt(abs(across[0] * along[1] - across[1] * along[0])))

    def turn(self, point: Float64) -> float:
        """Rotation of the chart's rows at a chart position, radians, clockwise."""
        left, right = self(point + np.array([[-0.5, 0.0], [0.5, 0.0]]))
        return float(np.arctan2(right[1] - left[1], right[0] - left[0]))

    @property
    def distortion(self) -> float:
        """Radial displacement at the picture's corners, % of the distance from its centre."""
        return 100 * (self.k1 + self.k2)

    def _lens(self, points: Float64) -> Float64:
        centre, unit = self._frame()
        away = (points - centre) / unit
        square = (away**2).sum(axis=-1, keepdims=True)
        return np.asarray(centre + unit * away * (1 + self.k1 * square + self.k2 * square**2))

    def _frame(self) -> tuple[Float64, float]:
        size = np.array([self.width, self.height], np.float64)
        return size / 2, float(np.hypot(*size)) / 2


def projected(homography: Float64, points: Float64) -> Float64:
    """Points, shape (..., 2), through homographies, shape (..., 3, 3)."""
    weighted = (homography[..., :2] @ points[..., np.newaxis])[..., 0] + homography[..., 2]
    return np.asarray(weighted[..., :2] / weighted[..., 2:])


def homographies(sources: Float64, targets: Float64) -> Float64:
    """Homographies of four points each, shapes (n, 4, 2) to (n, 3, 3); NaN where there is none."""
    count = len(targets)
    x, y = np.broadcast_to(sources, targets.shape)[..., 0], sources[..., 1]
    x, y = np.broadcast_arrays(x, y)
    u, v = targets[..., 0], targets[..., 1]
    one, none = np.ones_like(u), np.zeros_like(u)
    above = np.stack([x, y, one, none, none, none, -u * x, -u * y], axis=-1)
    below = np.stack([none, none, none, x, y, one, -v * x, -v * y], axis=-1)
    system = np.concatenate([above, below], axis=1)
    system[np.abs(np.linalg.det(system)) < 1e-9] = np.nan
    wanted = np.concatenate([u, v], axis=1)[..., np.newaxis]
    solved = np.full((count, 8, 1), np.nan)
    regular = np.isfinite(system).all(axis=(1, 2))
    solved[regular] = np.linalg.solve(system[regular], wanted[regular])
    return np.concatenate([solved[..., 0], np.ones((count, 1))], axis=1).reshape(count, 3, 3)


def fit_mapping(
    chart: Float64, seen: Float64, start: Float64, size: tuple[int, int]
) -> tuple[Mapping, Float64, Float64]:
    """The mapping of measured points, least squares.

    Parameters
    ----------
    chart, seen : float arrays, shape (n, 2)
        Positions in the chart and in the picture.
    start : float array, shape (3, 3)
        A homography near to the wanted one.
    size : tuple of int
        Width and height of the picture.

    Returns
    -------
    mapping : Mapping
    residual : float array, shape (n,)
        Distances of the points from the mapping, px.
    errors : float array, shape (2,)
        Standard error of the distortion, % of the distance, and the rms residual.
    """
    from scipy.optimize import least_squares

    def mapping_of(values: Float64) -> Mapping:
        homography = np.append(values[:8], 1.0).reshape(3, 3)
        return Mapping(homography, float(values[8]), float(values[9]), *size)

    def residual(values: Float64) -> Float64:
        return np.asarray((mapping_of(values)(chart) - seen).ravel())

    first = np.concatenate([(start / start[2, 2]).ravel()[:8], [0.0, 0.0]])
    fit = least_squares(residual, first, x_scale="jac", xtol=1e-14, ftol=1e-14)
    mapping = mapping_of(fit.x)
    distance = np.hypot(*(mapping(chart) - seen).T)
    spread = float(fit.fun @ fit.fun) / max(1, fit.fun.size - fit.x.size)
    covariance = np.linalg.pinv(fit.jac.T @ fit.jac)[8:, 8:] * spread
    error = 100 * float(np.sqrt(max(0.0, covariance.sum())))
    return mapping, distance, np.array([error, float(np.sqrt(np.mean(distance**2)))])
