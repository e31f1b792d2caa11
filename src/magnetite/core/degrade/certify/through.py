"""Noise on its way through a chain: its strength and its correlation after each step."""

from __future__ import annotations

import math

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.compute.bands import bands_of
from magnetite.core.compute.threads import spread
from magnetite.core.degrade.certify.change import Finding

#: Distances at which the correlation is measured, px.
LAGS = (1, 2, 3, 4)
#: Finding of the sd of all noise so far.
FOLLOWED = "noise sd"
_COLOURS = ("red", "green", "blue")
#: Sides of the part that correlations are measured on, px.
_MOST = 1024


class NoiseSurvey:
    """Noise after a step, gathered while a picture passes in bands.

    The noise is the difference of the samples from those of the same steps without noise.
    """

    def __init__(self, height: int) -> None:
        self._height = height
        self._sums: list[Float64] = []
        self._middle: list[Pixels] = []
        self._smallest = 0

    def add(self, noise: Pixels, first: int) -> None:
        """Take rows of the noise, shape (h, w) or (h, w, n), full-scale units.

        `first` is the number of their first row; rows come in order.
        """
        planes = [noise] if noise.ndim == 2 else [noise[..., k] for k in range(noise.shape[2])]
        sums = np.stack([_sums(plane) for plane in planes])
        self._sums.append(sums)
        rows, columns = (_middle(side) for side in (self._height, noise.shape[1]))
        self._smallest = min(self._height, noise.shape[1])
        within = slice(max(0, rows.start - first), max(0, rows.stop - first))
        self._middle.append(noise[within, columns].copy())

    def findings(self) -> list[Finding]:
        """Sd of each channel, and the correlation of samples some px apart, across and down.

        The correlation is the mean over channels and over both directions, of at most 1024x1024
        samples in the middle; 0 for white noise.
        """
        if not self._sums:
            return []
        sds = [_sd(sums) for sums in np.sum(self._sums, axis=0)]
        names = [""] if len(sds) == 1 else _COLOURS if len(sds) == 3 else map(str, range(9999))
        found = [
            Finding(f"{FOLLOWED} {name}".rstrip(), "fs", None, sd)
            for name, sd in zip(names, sds, strict=False)
        ]
        middle = np.concatenate(self._middle).astype(np.float64)
        planes = [middle] if middle.ndim == 2 else list(np.moveaxis(middle, 2, 0))
        centred = [np.asarray(plane - plane.mean()) for plane in planes]
        for lag in LAGS:
            if self._smallest > 2 * lag:
                value = float(np.mean([_correlation(plane, lag) for plane in centred]))
                found.append(Finding(f"noise correlation at {lag} px", "", None, value))
        return found


def _sums(plane: Pixels) -> Float64:
    """Number of samples, their sum and that of their squares."""

    def work(part: slice) -> Float64:
        rows = plane[part].astype(np.float64)
        return np.array([rows.size, rows.sum(), np.square(rows).sum()])

    return np.asarray(np.sum(spread(work, bands_of(plane)), axis=0))


def _sd(sums: Float64) -> float:
    count, total, squares = sums.tolist()
    return math.sqrt(max(0.0, squares / count - (total / count) ** 2))


def _middle(side: int) -> slice:
    """The middle of a long side: enough for correlations."""
    start = max(0, side - _MOST) // 2
    return slice(start, start + _MOST)


def _correlation(plane: Float64, lag: int) -> float:
    power = float(np.mean(np.square(plane)))
    if power == 0:
        return 0.0
    across = float(np.mean(plane[:, lag:] * plane[:, :-lag]))
    down = float(np.mean(plane[lag:] * plane[:-lag]))
    return (across + down) / 2 / power
