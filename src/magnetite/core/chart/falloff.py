"""Fall-off of light towards the corners, from the background of the chart (ISO 17957:2015)."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float64
from magnetite.core.calibrate.fitting import Estimate
from magnetite.core.chart.design import Chart, Patch


@dataclass(frozen=True)
class Falloff:
    """Light over the field relative to its middle, which is where it is 1."""

    coefficients: Float64
    width: int
    height: int
    #: Of the coefficients; None where they were not measured.
    covariance: Float64 | None = None

    def at(self, points: Float64) -> Float64:
        """Relative light at positions in the picture, shape (..., 2)."""
        return np.asarray(1 + self._terms(points) @ self.coefficients)

    @property
    def corners(self) -> Estimate | None:
        """Mean loss of light in the corners, % of the middle's; None where it was not measured."""
        if self.covariance is None:
            return None
        w, h = self.width, self.height
        ends = np.array([[0, 0], [w, 0], [w, h], [0, h]], np.float64)
        terms = self._terms(ends).mean(axis=0)
        error = math.sqrt(float(terms @ self.covariance @ terms))
        return Estimate.of(-100 * float(terms @ self.coefficients), 100 * error)

    def _terms(self, points: Float64) -> Float64:
        unit = math.hypot(self.width, self.height) / 2
        away = (points - np.array([self.width, self.height]) / 2) / unit
        square = (away**2).sum(axis=-1)
        return np.stack([away[..., 0], away[..., 1], square, square**2], axis=-1)

    @classmethod
    def fitted(cls, points: Float64, light: Float64, width: int, height: int) -> Falloff:
        """Least squares through the light of one background at many positions."""
        even = cls(np.zeros(4), width, height)
        design = np.concatenate([np.ones((len(points), 1)), even._terms(points)], axis=1)
        values = np.linalg.lstsq(design, light, rcond=None)[0]
        residual = light - design @ values
        variance = float(residual @ residual) / max(1, light.size - values.size)
        covariance = variance * np.linalg.pinv(design.T @ design)
        # Coefficients are ratios to the first value, which errs with them.
        ratios = np.concatenate([-values[1:, np.newaxis] / values[0], np.eye(4)], axis=1)
        of_ratios = ratios @ covariance @ ratios.T / values[0] ** 2
        return cls(values[1:] / values[0], width, height, of_ratios)


def background_patches(chart: Chart) -> list[Patch]:
    """Squares of bare background: half a cell from dots, away from other elements."""
    cell = chart.cell
    leaves, star = chart.leaves, chart.star
    middle = leaves.left + leaves.size / 2, leaves.top + leaves.size / 2
    patches = (*chart.steps, *chart.colours)
    taken = [(*middle, leaves.size / 2), (star.x, star.y, star.radius)]
    taken += [(square.x, square.y, 0.75 * square.side) for square in chart.squares]
    taken += [(mark.x, mark.y, mark.side / 2) for mark in chart.marks]
    taken += [(patch.x, patch.y, patch.side / 2) for patch in patches]
    x, y, half = np.array(taken).T
    found: dict[tuple[int, int], Patch] = {}
    for dot in chart.dots:
        for across, down in ((-1, -1), (-1, 1), (1, -1), (1, 1)):
            at = dot.x + across * cell / 2, dot.y + down * cell / 2
            reach = np.maximum(np.abs(x - at[0]), np.abs(y - at[1])) - half
            if reach.min() > 0.4 * cell:
                light = (chart.background,) * 3
                found[round(at[0]), round(at[1])] = Patch(*at, cell / 2, light)
    return list(found.values())
