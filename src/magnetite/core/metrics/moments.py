"""Means, variances and covariance in every window that fits into a picture."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from magnetite.core.errors import PictureError
from magnetite.core.picture import Pixels
from magnetite.core.sharing import shared

Array = NDArray[np.float64]
#: Where to look: True inside, shape (h, w); None for everywhere.
Mask = NDArray[np.bool_] | None

#: Pictures of fewer samples are not worth the time that the compiled loop takes to load.
WORTH_COMPILING = 2**17


class Moments(NamedTuple):
    """Means, variances and covariance (population moments) in every window that fits."""

    mean_x: Array
    mean_y: Array
    variance_x: Array
    variance_y: Array
    covariance: Array


def window_moments(reference: Pixels, test: Pixels, weights: Array) -> Moments:
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
    name = f"moments {weights.tobytes().hex()}"
    return shared(name, lambda x, y: _moments(x, y, weights), reference, test)


def _moments(reference: Pixels, test: Pixels, weights: Array) -> Moments:
    # About a common offset the moments lose less to cancellation; variances do not change.
    offset = float(reference.mean())
    x: Array = np.asarray(reference - offset, np.float64)
    y: Array = np.asarray(test - offset, np.float64)
    if reference.size >= WORTH_COMPILING:
        from magnetite.core.metrics.moments_kernel import moments

        return Moments(*moments(x, y, weights, offset))
    mx, my = window_mean(x, weights), window_mean(y, weights)
    return Moments(
        mx + offset,
        my + offset,
        (window_mean(x * x, weights) - mx * mx).clip(0, None),
        (window_mean(y * y, weights) - my * my).clip(0, None),
        window_mean(x * y, weights) - mx * my,
    )


def window_mean(plane: Pixels, weights: Array) -> Array:
    """Weighted mean in every window that lies wholly inside the plane, in float64."""
    size = weights.size
    rows, columns = plane.shape[0] - size + 1, plane.shape[1] - size + 1
    down = np.zeros((rows, plane.shape[1]))
    for t, weight in enumerate(weights):
        down += weight * plane[t : t + rows]
    means = np.zeros((rows, columns))
    for t, weight in enumerate(weights):
        means += weight * down[:, t : t + columns]
    return means


def halved(plane: Pixels) -> Pixels:
    """Means of 2x2 samples; an odd last row or column is left out."""
    rows, columns = plane.shape[0] // 2 * 2, plane.shape[1] // 2 * 2
    cut = plane[:rows, :columns]
    across = cut[:, ::2] + cut[:, 1::2]
    return np.asarray((across[::2] + across[1::2]) / 4)


def fraction(above: Array, below: Array) -> Array:
    """`above / below`, 1 where nothing is below: there both windows agree."""
    return np.divide(above, below, out=np.ones_like(above), where=below > 0)


def mean_within(values: Array, within: Mask, window: int) -> float:
    """Mean of a map with one value for each window, of those that lie wholly inside a mask."""
    return float(values.mean() if within is None else values[windows_inside(within, window)].mean())


def windows_inside(within: NDArray[np.bool_], window: int) -> NDArray[np.bool_]:
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
