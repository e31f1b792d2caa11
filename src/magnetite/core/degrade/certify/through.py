"""Noise on its way through a chain: its strength and its correlation after each step."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.degrade.certify.change import Finding

#: Distances at which the correlation is measured, px.
LAGS = (1, 2, 3, 4)
_COLOURS = ("red", "green", "blue")


def noise_findings(noise: Pixels) -> list[Finding]:
    """Sd of each channel, and the correlation of samples some px apart, across and down.

    Parameters
    ----------
    noise : float array, shape (h, w) or (h, w, n), full-scale units
        Samples after a step, less those of the same steps without noise.

    Returns
    -------
    list of Finding
        The correlation is the mean over channels and over both directions; 0 for white noise.
    """
    planes = [noise] if noise.ndim == 2 else [noise[..., k] for k in range(noise.shape[2])]
    centred = [plane - plane.mean(dtype=np.float64) for plane in planes]
    names = [""] if len(planes) == 1 else _COLOURS if len(planes) == 3 else map(str, range(9999))
    found = [
        Finding(f"noise sd {name}".rstrip(), "fs", None, float(plane.std()))
        for name, plane in zip(names, centred, strict=False)
    ]
    for lag in LAGS:
        if min(noise.shape[:2]) > 2 * lag:
            value = float(np.mean([_correlation(plane, lag) for plane in centred]))
            found.append(Finding(f"noise correlation at {lag} px", "", None, value))
    return found


def _correlation(plane: Float64, lag: int) -> float:
    power = float(np.mean(np.square(plane)))
    if power == 0:
        return 0.0
    across = float(np.mean(plane[:, lag:] * plane[:, :-lag]))
    down = float(np.mean(plane[lag:] * plane[:-lag]))
    return (across + down) / 2 / power
