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
_COLOURS = ("red", "green", "blue")
#: Sides of the part that correlations are measured on, px.
_MOST = 1024


def noise_findings(noise: Pixels) -> list[Finding]:
    """Sd of each channel, and the correlation of samples some px apart, across and down.

    Parameters
    ----------
    noise : float array, shape (h, w) or (h, w, n), full-scale units
        Samples after a step, less those of the same steps without noise.

    Returns
    -------
    list of Finding
        The correlation is the mean over channels and over both directions, of at most 1024x1024
        samples in the middle; 0 for white noise.
    """
    planes = [noise] if noise.ndim == 2 else [noise[..., k] for k in range(noise.shape[2])]
    names = [""] if len(planes) == 1 else _COLOURS if len(planes) == 3 else map(str, range(9999))
    found = [
        Finding(f"noise sd {name}".rstrip(), "fs", None, _sd(plane))
        for name, plane in zip(names, planes, strict=False)
    ]
    middle = [_middle(plane) for plane in planes]
    for lag in LAGS:
        if min(noise.shape[:2]) > 2 * lag:
            value = float(np.mean([_correlation(plane, lag) for plane in middle]))
            found.append(Finding(f"noise correlation at {lag} px", "", None, value))
    return found


def _sd(plane: Pixels) -> float:
    def work(part: slice) -> Float64:
        rows = plane[part].astype(np.float64)
        return np.array([rows.size, rows.sum(), np.square(rows).sum()])

    count, total, squares = np.sum(spread(work, bands_of(plane)), axis=0)
    return math.sqrt(max(0.0, squares / count - (total / count) ** 2))


def _middle(plane: Pixels) -> Float64:
    """The middle of a large plane, about its mean: enough for correlations."""
    top, left = (max(0, side - _MOST) // 2 for side in plane.shape)
    part = plane[top : top + _MOST, left : left + _MOST].astype(np.float64)
    return np.asarray(part - part.mean())


def _correlation(plane: Float64, lag: int) -> float:
    power = float(np.mean(np.square(plane)))
    if power == 0:
        return 0.0
    across = float(np.mean(plane[:, lag:] * plane[:, :-lag]))
    down = float(np.mean(plane[lag:] * plane[:-lag]))
    return (across + down) / 2 / power
