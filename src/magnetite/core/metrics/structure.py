"""Metrics of structure."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from magnetite.core.errors import PictureError
from magnetite.core.kernels import gaussian_kernel
from magnetite.core.parameters import Count, Length, Number
from magnetite.core.picture import Pixels
from magnetite.core.registry import ColourPolicy, metric


@metric(
    "ssim",
    summary="Structural similarity, mean over all windows that fit.",
    colour=ColourPolicy.EACH,
    source=(
        "Wang, Bovik, Sheikh and Simoncelli, IEEE Trans. Image Processing 13(4), 2004, "
        "doi:10.1109/TIP.2003.819861"
    ),
    unit="",
    better="higher",
    identical=1.0,
    tolerance=0.0005,
    smallest="the window, 11x11",
)
def ssim(
    reference: Pixels,
    test: Pixels,
    peak: float = 1.0,
    *,
    window: Annotated[int, Count(3, 99, odd=True)] = 11,
    window_sd: Annotated[float, Length(0.1, 100)] = 1.5,
    k1: Annotated[float, Number(0, 1)] = 0.01,
    k2: Annotated[float, Number(0, 1)] = 0.03,
) -> float:
    """Structural similarity index, equation 13 of the source, without downsampling.

    In each window, with Gaussian weights of unit sum, the means, variances and covariance
    (population moments) give `(2 mx my + C1)(2 sxy + C2) / ((mx² + my² + C1)(sx² + sy² + C2))`,
    `C1 = (k1 peak)²`, `C2 = (k2 peak)²`; the score is the mean over the windows that lie
    wholly inside the picture, and over the channels.

    Parameters
    ----------
    reference, test : arrays of the same shape, (h, w) or (h, w, n)
    peak : float
        Full scale of the arrays.
    window : int
        Side of the window in px, odd, 3 to 99.
    window_sd : float
        Standard deviation of its weights in px.
    k1, k2 : float
        Stabilising constants, 0 to 1.

    Returns
    -------
    float
        -1 to 1; exactly 1 for identical arrays.

    Raises
    ------
    PictureError
        If the shapes differ or the window does not fit into the picture.
    """
    height, width = reference.shape
    if min(height, width) < window:
        raise PictureError(
            f"ssim's window of {window}x{window} does not fit a picture of {width}x{height}: "
            "leave ssim out of --metrics, or give a smaller window, as in 'ssim window=3'"
        )
    if np.array_equal(reference, test):
        return 1.0
    # About a common offset the moments lose less to cancellation; variances do not change.
    offset = float(reference.mean())
    x, y = reference - offset, test - offset
    weights = gaussian_kernel(window_sd, radius=window // 2)
    mx, my = _window_mean(x, weights), _window_mean(y, weights)
    spread = _window_mean(x * x + y * y, weights) - mx * mx - my * my
    covariance = _window_mean(x * y, weights) - mx * my
    mx += offset
    my += offset
    c1, c2 = (k1 * peak) ** 2, (k2 * peak) ** 2
    numerator = (2 * mx * my + c1) * (2 * covariance + c2)
    denominator = (mx * mx + my * my + c1) * (spread + c2)
    # k1 = k2 = 0 leaves 0/0 in flat black windows that agree: similar, by the limit.
    similarity = np.divide(
        numerator, denominator, out=np.ones_like(numerator), where=denominator > 0
    )
    return float(similarity.mean())


def _window_mean(plane: Pixels, weights: NDArray[np.float64]) -> NDArray[np.float64]:
    """Weighted mean in every window that lies wholly inside the plane."""
    from scipy.ndimage import correlate1d

    reach = weights.size // 2
    height, width = plane.shape
    rows = correlate1d(plane, weights, axis=0)[reach : height - reach]
    return np.asarray(correlate1d(rows, weights, axis=1)[:, reach : width - reach])
