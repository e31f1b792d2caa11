"""Means, variances and covariance in every window that fits into a picture."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from magnetite.core.arrays import Bools, Float64, Mask, Pixels
from magnetite.core.compute.compiling import WORTH_COMPILING
from magnetite.core.compute.sharing import shared
from magnetite.core.errors import PictureError
from magnetite.core.methods.sums import Totals


class Moments(NamedTuple):
    """Means, variances and covariance (population moments) in every window that fits."""

    mean_x: Float64
    mean_y: Float64
    variance_x: Float64
    variance_y: Float64
    covariance: Float64


def window_moments(reference: Pixels, test: Pixels, weights: Float64) -> Moments:
    """Moments of both planes under separable weights of unit sum, in float64.

    Parameters
    ----------
    reference, test : arrays of the same shape (h, w), at least as large as the window
    weights : float64 array, shape (n,)
        Weights along one side of the window.

    Returns
    -------
    Moments
        Arrays of shape (h - n + 1, w - n + 1); variances are never negative.
    """
    return shared(_moments, reference, test, weights=weights)


def _moments(reference: Pixels, test: Pixels, weights: Float64) -> Moments:
    # About a common offset the moments lose less to cancellation; variances do not change.
    offset = float(reference.mean())
    x: Float64 = np.asarray(reference - offset, np.float64)
    y: Float64 = np.asarray(test - offset, np.float64)
    if reference.size >= WORTH_COMPILING:
        from magnetite.core.metrics.kernels.moment_bands import moments

        return Moments(*moments(x, y, weights, offset))
    mx, my = window_mean(x, weights), window_mean(y, weights)
    return Moments(
        mx + offset,
        my + offset,
        (window_mean(x * x, weights) - mx * mx).clip(0, None),
        (window_mean(y * y, weights) - my * my).clip(0, None),
        window_mean(x * y, weights) - mx * my,
    )


def window_mean(plane: Pixels, weights: Float64) -> Float64:
    """Weighted mean in every window that lies wholly inside the plane, in float64.

    The weights are symmetric.
    """
    size = weights.size
    if plane.size >= WORTH_COMPILING and size % 2:
        from magnetite.core.compute.separable import filtered

        rows, columns = map(np.arange, plane.shape)
        return np.asarray(
            filtered(plane.astype(np.float64, copy=False), weights, rows, columns), np.float64
        )
    height, width = plane.shape[0] - size + 1, plane.shape[1] - size + 1
    down = np.zeros((height, plane.shape[1]))
    for t, weight in enumerate(weights):
        down += weight * plane[t : t + height]
    means = np.zeros((height, width))
    for t, weight in enumerate(weights):
        means += weight * down[:, t : t + width]
    return means


def halved(plane: Pixels) -> Pixels:
    """Means of 2x2 samples; an odd last row or column is left out."""
    rows, columns = plane.shape[0] // 2 * 2, plane.shape[1] // 2 * 2
    cut = plane[:rows, :columns]
    across = cut[:, ::2] + cut[:, 1::2]
    return np.asarray((across[::2] + across[1::2]) / 4)


def fraction(above: Float64, below: Float64) -> Float64:
    """`above / below`, of one shape, 1 where nothing is below: there both windows agree."""
    return np.divide(above, below, out=np.ones_like(above), where=below > 0)


def totals_within(values: Float64, within: Mask, window: int) -> Totals:
    """Sum and number of a map's values whose windows lie wholly inside a mask, shape (h, w)."""
    if within is not None:
        values = values[windows_inside(within, window)]
    return float(values.sum()), values.size


def windows_inside(within: Bools, window: int) -> Bools:
    """Which windows that fit into the picture lie wholly inside a mask; at least one does.

    Raises
    ------
    PictureError
        If none does.
    """
    inside = (
        window_mean(within.astype(np.float64), np.full(window, 1 / window)) > 1 - 0.5 / window**2
    )
    if not inside.any():
        raise PictureError(
            f"no window of {window}x{window} lies wholly inside the mask: widen the mask, "
            "or take metrics of single samples, such as mse"
        )
    return inside


def check_window(name: str, plane: Pixels, window: int) -> None:
    """Raise `PictureError` unless a window fits into a plane."""
    height, width = plane.shape
    if min(height, width) < window:
        raise PictureError(
            f"{name}'s window of {window}x{window} does not fit a picture of {width}x{height}: "
            f"leave {name} out, or give a smaller window, as in '{name} window=3'"
        )
