"""Gauges of sharpness."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.compute.threads import threads
from magnetite.core.edges.slanted_edge import measure_edge
from magnetite.core.errors import PictureError
from magnetite.core.methods.catalogue import ColourPolicy, gauge
from magnetite.core.methods.parameters import Number
from magnetite.core.methods.sums import Sums, Totals, moments, pooled, quotient, variance
from magnetite.core.metrics.gradient import laplacian
from magnetite.core.picture import as_picture
from magnetite.core.picture.least_size import check_size

_ISO_12233 = "ISO 12233:2017, annex D"


def _laplacian_moments(pixels: Pixels) -> Totals:
    return moments(laplacian(pixels))


@gauge(
    "laplacian-variance",
    summary="Variance of the four-neighbour Laplacian, on the dn scale of 8 bits; more is sharper.",
    colour=ColourPolicy.LUMA,
    source=(
        "Pech-Pacheco, Cristobal, Chamorro-Martinez and Fernandez-Valdivia, ICPR 2000, "
        "doi:10.1109/ICPR.2000.903548"
    ),
    unit="dn²",
    values="0 and up",
    smallest="3x3",
    sums=Sums(_laplacian_moments, variance, combine=pooled, overlap=2),
)
def laplacian_variance(pixels: Pixels) -> float:
    """Population variance of `up + down + left + right - 4 centre` over the inner samples.

    It grows with noise as well as with sharpness.
    """
    check_size("laplacian-variance", pixels, 3)
    return variance(_laplacian_moments(pixels))


def _squared_gradients(pixels: Pixels) -> Totals:
    rows = pixels[:-2] + 2 * pixels[1:-1] + pixels[2:]
    columns = pixels[:, :-2] + 2 * pixels[:, 1:-1] + pixels[:, 2:]
    squares = (rows[:, 2:] - rows[:, :-2]) ** 2 + (columns[2:] - columns[:-2]) ** 2
    return float(squares.sum()), squares.size


@gauge(
    "tenengrad",
    summary="Mean squared gradient by Sobel's kernels; more is sharper.",
    colour=ColourPolicy.LUMA,
    source="Krotkov, International J. Computer Vision 1, 1987, doi:10.1007/BF00127822",
    unit="dn²",
    values="0 and up",
    smallest="3x3",
    sums=Sums(_squared_gradients, quotient, overlap=2),
)
def tenengrad(pixels: Pixels) -> float:
    """Mean of `gx² + gy²` over the inner samples, without a threshold, in the square of the
    array's unit.

    gx, gy are the sums with [-1 0 1; -2 0 2; -1 0 1] and its transpose.
    """
    check_size("tenengrad", pixels, 3)
    return quotient(_squared_gradients(pixels))


def _squared_differences(pixels: Pixels) -> Totals:
    squares = (pixels[:, 2:] - pixels[:, :-2]) ** 2
    return float(squares.sum()), squares.size


@gauge(
    "brenner",
    summary="Mean squared difference of samples two apart along rows; more is sharper.",
    colour=ColourPolicy.LUMA,
    source="Brenner et al., J. Histochemistry and Cytochemistry 24(1), 1976, "
    "doi:10.1177/24.1.1254907",
    unit="dn²",
    values="0 and up",
    smallest="3x3",
    sums=Sums(_squared_differences, quotient),
)
def brenner(pixels: Pixels) -> float:
    """Mean over the picture of `(x[i, j + 2] - x[i, j])²`, in the square of the array's unit."""
    check_size("brenner", pixels, 3)
    return quotient(_squared_differences(pixels))


@gauge(
    "high-frequency-share",
    summary="Share of the power, the mean apart, above a frequency.",
    colour=ColourPolicy.LUMA,
    source="Field, JOSA A 4(12), 1987, doi:10.1364/JOSAA.4.002379",
    unit="share",
    values="0 to 1",
    smallest="4x4",
)
def high_frequency_share(
    pixels: Pixels,
    peak: float = 1.0,
    *,
    above: Annotated[
        float, Number(0.01, 0.7), "lowest of the high frequencies, cycles per px"
    ] = 0.25,
) -> float:
    """Power at frequencies above `above` cycles per px over that at all but 0; it falls with blur.

    Under a Hann window, about the mean that the window weighs: without one, the step between
    opposite borders would count as detail. 0 for a flat picture.
    """
    from scipy.fft import rfft2

    height, width = pixels.shape
    check_size("high-frequency-share", pixels, 4)
    window = _hann(height)[:, np.newaxis] * _hann(width)
    centred = (pixels - float((pixels * window).sum() / window.sum())) * window
    power = np.abs(rfft2(centred, workers=threads())) ** 2
    power[:, 1 : (width + 1) // 2] *= 2  # their mirror images are not in the half plane
    fy, fx = np.fft.fftfreq(height)[:, np.newaxis], np.fft.rfftfreq(width)[np.newaxis]
    total = float(power.sum())
    if total <= 1e-18 * peak**2 * pixels.size**2:
        return 0.0
    return float(power[np.hypot(fy, fx) > above].sum()) / total


def _hann(size: int) -> Float64:
    """Hann's window, without zeros at its ends."""
    return np.asarray(np.sin(np.pi * (np.arange(size) + 0.5) / size) ** 2)


@gauge(
    "mtf50",
    summary="Frequency at which a slanted edge keeps half its contrast; the edge is found "
    "automatically.",
    colour=ColourPolicy.LUMA,
    source=_ISO_12233,
    unit="c/px",
    values="0 to 1",
    smallest="40x28",
)
def mtf50(pixels: Pixels, peak: float = 1.0) -> float:
    """MTF50 of the best slanted edge in the picture (see `calibrate.slanted_edge`).

    Of linear samples, along the edge's normal. Raises `PictureError` where no slanted edge is
    found, or contrast never falls to half up to 1 c/px.
    """
    return _found("mtf50", measure_edge(as_picture(pixels / peak, "this picture")).mtf50)


@gauge(
    "mtf10",
    summary="Frequency at which a slanted edge keeps a tenth of its contrast.",
    colour=ColourPolicy.LUMA,
    source=_ISO_12233,
    unit="c/px",
    values="0 to 1",
    smallest="40x28",
)
def mtf10(pixels: Pixels, peak: float = 1.0) -> float:
    """MTF10 of the best slanted edge in the picture; otherwise as `mtf50`."""
    return _found("mtf10", measure_edge(as_picture(pixels / peak, "this picture")).mtf10)


def _found(name: str, frequency: float | None) -> float:
    if frequency is None:
        raise PictureError(f"{name}: the edge keeps more of its contrast up to 1 c/px")
    return frequency
