"""Smoothing by weighted means of neighbours, and its opposite."""

from __future__ import annotations

import math
from typing import Annotated, Literal

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.compute.filters import convolve_separable
from magnetite.core.compute.threads import each
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.methods.amplitudes import Amplitude
from magnetite.core.methods.catalogue import ColourPolicy, restoration
from magnetite.core.methods.parameters import Count, Length, Number
from magnetite.core.restore._planes import mirrored, rows_of, to_picture, to_planes
from magnetite.core.restore.kernels.noise_sd import NoiseSd, estimated

_GONZALEZ = "Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 3."


@restoration(
    "mean",
    summary="Replace each sample by the mean of its square window.",
    removes="noise",
    colour=ColourPolicy.EACH,
    source=_GONZALEZ + "5",
    reach=lambda *, size: size // 2,
)
def mean(
    pixels: Pixels,
    *,
    size: Annotated[int, Count(1, 501, odd=True), "side of the window, px; 1 changes nothing"] = 3,
) -> Pixels:
    """Mean of a `size` x `size` window, mirrored at the edges."""
    return convolve_separable(pixels, np.full(size, 1 / size))


@restoration(
    "gaussian",
    summary="Smooth with a Gaussian, mirrored at the edges.",
    removes="noise",
    colour=ColourPolicy.EACH,
    source=_GONZALEZ + "5",
    reach=lambda *, sigma: gaussian_kernel(sigma).size // 2,
)
def gaussian(
    pixels: Pixels,
    *,
    sigma: Annotated[float, Length(0, 200), "standard deviation; 0 changes nothing"] = 1.0,
) -> Pixels:
    """Weighted mean with Gaussian weights of unit sum, cut at 4.5 sigma, mirrored at the edges."""
    return convolve_separable(pixels, gaussian_kernel(sigma))


@restoration(
    "bilateral",
    summary="Mean of the neighbours that are near and alike.",
    removes="noise",
    colour=ColourPolicy.JOINT,
    source="Tomasi and Manduchi, Int. Conf. Computer Vision, 1998, doi:10.1109/ICCV.1998.710815",
    reach=lambda *, sigma, **_: math.ceil(2.5 * sigma),
)
def bilateral(
    pixels: Pixels,
    *,
    sigma: Annotated[
        float, Length(0, 20), "standard deviation of the distance; 0 changes nothing"
    ] = 2.0,
    range: Annotated[
        float, Amplitude(), "standard deviation of the difference; 0 changes nothing"
    ] = 0.1,
) -> Pixels:
    """`Σ w x / Σ w`, `w = exp(-r² / 2 sigma²) exp(-d² / 2 range²)`, up to 2.5 sigma away.

    r is the distance, d² the mean squared difference of both samples over all channels. Computed
    in float32, weights within 0.03 %.
    """
    from magnetite.core.restore.kernels.means import means_band

    if sigma == 0 or range == 0:
        return pixels.copy()
    planes = to_planes(pixels)
    channels, _, width = planes.shape
    reach = int(np.ceil(2.5 * sigma))
    line = np.exp(-0.5 * (np.arange(-reach, reach + 1) / sigma) ** 2)
    near = np.outer(line, line).astype(np.float32)
    padded = mirrored(planes, reach)
    scale = np.float32(1 / (2 * range**2 * channels))
    result = np.empty_like(planes)

    def band(rows: slice) -> None:
        total = np.zeros((channels, rows.stop - rows.start, width), np.float32)
        weight = np.zeros(total.shape[1:], np.float32)
        nothing = np.float32(0)
        means_band(padded, width, rows.start, 0, near, nothing, scale, total, weight)
        result[:, rows] = total / weight

    each(band, rows_of(planes))
    return to_picture(result, pixels)


@restoration(
    "wiener",
    summary="Move samples to the local mean as far as noise explains the local variance.",
    removes="noise",
    colour=ColourPolicy.EACH,
    source="Lee, IEEE Trans. Pattern Analysis and Machine Intelligence 2(2), 1980, "
    "doi:10.1109/TPAMI.1980.4766994",
    reach=lambda *, size, **_: size // 2,
    statistics=lambda *, sd, **_: sd is None,
)
def wiener(
    pixels: Pixels,
    *,
    sd: NoiseSd = None,
    size: Annotated[int, Count(3, 101, odd=True), "side of the window, px"] = 5,
) -> Pixels:
    """`m + max(0, v - sd²) / v (x - m)`, m and v mean and variance of the window."""
    sd = estimated(pixels, sd)
    if sd == 0:
        return pixels.copy()
    centred = pixels - pixels.dtype.type(0.5)  # squares lose less
    local = mean(centred, size=size)
    variance = (mean(centred**2, size=size) - local**2).clip(1e-12, None)
    gain = ((variance - pixels.dtype.type(sd**2)) / variance).clip(0, 1)
    return np.asarray(local + gain * (centred - local) + 0.5, pixels.dtype)


@restoration(
    "guided",
    summary="Locally linear smoothing guided by the picture itself: edges stay.",
    removes="noise",
    colour=ColourPolicy.EACH,
    source="He, Sun and Tang, IEEE Trans. Pattern Analysis and Machine Intelligence 35(6), 2013, "
    "doi:10.1109/TPAMI.2012.213",
    reach=lambda *, radius, **_: 2 * radius,
)
def guided(
    pixels: Pixels,
    *,
    radius: Annotated[int, Count(1, 100), "windows have sides of 2 radius + 1 px"] = 2,
    range: Annotated[
        float, Amplitude(), "contrast that counts as an edge; 0 changes nothing"
    ] = 0.1,
) -> Pixels:
    """`mean(a) x + mean(b)`, `a = v / (v + range²)`, `b = (1 - a) m` in each window."""
    if range == 0:
        return pixels.copy()
    size = 2 * radius + 1
    centred = pixels - pixels.dtype.type(0.5)
    local = mean(centred, size=size)
    variance = (mean(centred**2, size=size) - local**2).clip(0, None)
    slope = variance / (variance + pixels.dtype.type(range**2))
    smooth = mean(slope, size=size) * centred + mean((1 - slope) * local, size=size)
    return np.asarray(smooth + 0.5, pixels.dtype)


@restoration(
    "anisotropic-diffusion",
    summary="Let differences flow off where they are small, and stand where they are large.",
    removes="noise",
    colour=ColourPolicy.EACH,
    source="Perona and Malik, IEEE Trans. Pattern Analysis and Machine Intelligence 12(7), 1990, "
    "doi:10.1109/34.56205",
    reach=lambda *, iterations, **_: int(iterations),
)
def anisotropic_diffusion(
    pixels: Pixels,
    *,
    range: Annotated[
        float, Amplitude(), "difference above which diffusion falls off; 0 changes nothing"
    ] = 0.1,
    iterations: Annotated[int, Count(0, 1000), "number of iterations; 0 changes nothing"] = 10,
    conductance: Annotated[
        Literal["exponential", "rational"], "the first keeps strong edges, the second wide regions"
    ] = "exponential",
) -> Pixels:
    """`x += ¼ Σ g(d) d` over the differences d to four neighbours, again and again.

    `g = exp(-(d / range)²)` or `1 / (1 + (d / range)²)`. Nothing flows over the edges.
    """
    if range == 0:
        return pixels.copy()
    result = pixels.copy()
    for _ in np.arange(iterations):
        flows = []
        for axis in (0, 1):
            difference = np.diff(result, axis=axis)
            square = (difference / pixels.dtype.type(range)) ** 2
            passing = np.exp(-square) if conductance == "exponential" else 1 / (1 + square)
            flows.append(difference * passing / 4)
        result[:-1] += flows[0]
        result[1:] -= flows[0]
        result[:, :-1] += flows[1]
        result[:, 1:] -= flows[1]
    return result


@restoration(
    "sharpen",
    summary="Add the residual of a Gaussian, where it is more than noise.",
    colour=ColourPolicy.EACH,
    source=_GONZALEZ + "6",
    reach=lambda *, sigma, **_: gaussian_kernel(sigma).size // 2,
)
def sharpen(
    pixels: Pixels,
    *,
    sigma: Annotated[
        float, Length(0, 200), "standard deviation of the Gaussian; 0 changes nothing"
    ] = 1.0,
    amount: Annotated[float, Number(0, 20), "factor of the detail; 0 changes nothing"] = 1.0,
    threshold: Annotated[float, Amplitude(), "smallest detail that is amplified"] = 0.0,
) -> Pixels:
    """Unsharp masking: `x + amount (x - G x)` where |x - G x| is above the threshold.

    Samples may leave 0..1.
    """
    detail = pixels - gaussian(pixels, sigma=sigma)
    detail[np.abs(detail) <= threshold] = 0
    return pixels + pixels.dtype.type(amount) * detail
