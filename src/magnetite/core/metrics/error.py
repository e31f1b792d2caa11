"""Metrics of sample error."""

from __future__ import annotations

import math
from functools import partial
from typing import Annotated

import numpy as np

from magnetite.core.arrays import Float64, Pixels, Samples
from magnetite.core.compute.threads import threads
from magnetite.core.methods.catalogue import ColourPolicy, metric
from magnetite.core.methods.parameters import Count, Number
from magnetite.core.methods.sums import Sums, Totals, largest, quotient
from magnetite.core.metrics.kernels.errors import error_sums
from magnetite.core.picture.least_size import check_size


def _squares(reference: Samples, test: Samples) -> Totals:
    """Sum of squared errors, and how many."""
    sums = error_sums(reference, test)
    return sums.squares, sums.number


def _squares_and_power(reference: Samples, test: Samples) -> Totals:
    """The same with the sum of squares of the reference."""
    sums = error_sums(reference, test)
    return sums.squares, sums.number, sums.power


def _absolute(reference: Samples, test: Samples) -> Totals:
    """Sum of absolute errors, and how many."""
    sums = error_sums(reference, test)
    return sums.absolute, sums.number


def _largest(reference: Samples, test: Samples) -> Totals:
    return (error_sums(reference, test).largest,)


def _only(totals: Totals) -> float:
    return float(totals[0])


def _root(totals: Totals) -> float:
    return math.sqrt(quotient(totals))


def _below_peak(totals: Totals, peak: float = 1.0) -> float:
    """The peak's square over the mean squared error, in dB."""
    error = quotient(totals)
    return math.inf if error == 0 else 10 * math.log10(peak**2 / error)


def _over_power(totals: Totals) -> float:
    """Root of the mean squared error over that of the reference's mean square."""
    error, count, power = totals
    return _root_ratio(error / count, power / count)


def _below_signal(totals: Totals) -> float:
    """The reference's mean square over the mean squared error, in dB."""
    error, count, power = totals
    if error == 0:
        return math.inf
    return 10 * math.log10((power / count) / (error / count)) if power > 0 else -math.inf


_SOURCE = "Wang and Bovik, IEEE Signal Processing Magazine 26(1), 2009, doi:10.1109/MSP.2008.930649"


#: Means and maxima of the error, over all samples of all channels.
_error = partial(
    metric,
    colour=ColourPolicy.JOINT,
    source=_SOURCE,
    better="lower",
    identical=0.0,
    mask="samples",
    integers=True,
)


@_error(
    "mse",
    summary="Mean squared error.",
    unit="dn²",
    values="0 to 65025",
    sums=Sums(_squares, quotient),
)
def mse(reference: Samples, test: Samples) -> float:
    """Mean over all samples of all channels of `(reference - test)²`.

    In the square of the arrays' unit; pictures are scored on the scale of 8 bits (full scale 255),
    so that depths compare.
    """
    return quotient(_squares(reference, test))


@_error(
    "rmse",
    summary="Root of the mean squared error.",
    unit="dn",
    values="0 to 255",
    sums=Sums(_squares, _root),
)
def rmse(reference: Samples, test: Samples) -> float:
    """Square root of `mse`."""
    return _root(_squares(reference, test))


@metric(
    "psnr",
    summary="Peak signal-to-noise ratio; the peak is the picture's full scale.",
    colour=ColourPolicy.JOINT,
    source=_SOURCE,
    unit="dB",
    values="0 to ∞",
    better="higher",
    identical=math.inf,
    tolerance=0.01,
    mask="samples",
    integers=True,
    sums=Sums(_squares, _below_peak),
)
def psnr(reference: Samples, test: Samples, peak: float = 1.0) -> float:
    """`10 log10(peak² / mse)` in dB, the error taken over all samples of all channels."""
    return _below_peak(_squares(reference, test), peak)


@metric(
    "nrmse",
    summary="Root of the mean squared error over the reference's root mean square.",
    colour=ColourPolicy.JOINT,
    source="Fienup, Applied Optics 36(32), 1997, doi:10.1364/AO.36.008352",
    unit="",
    values="0 to ∞",
    better="lower",
    identical=0.0,
    mask="samples",
    integers=True,
    sums=Sums(_squares_and_power, _over_power),
)
def nrmse(reference: Samples, test: Samples) -> float:
    """`√(Σ (x - y)² / Σ x²)`, over all samples of all channels.

    Infinity where the reference is all 0 and the test is not.
    """
    return _over_power(_squares_and_power(reference, test))


@_error(
    "mae",
    summary="Mean absolute error.",
    unit="dn",
    values="0 to 255",
    sums=Sums(_absolute, quotient),
)
def mae(reference: Samples, test: Samples) -> float:
    """Mean of `|x - y|` over all samples of all channels, in the arrays' unit."""
    return quotient(_absolute(reference, test))


@_error(
    "max-error",
    summary="Largest absolute error of any sample.",
    unit="dn",
    values="0 to 255",
    sums=Sums(_largest, _only, combine=largest),
)
def max_error(reference: Samples, test: Samples) -> float:
    """Maximum of `|x - y|` over all samples of all channels, in the arrays' unit."""
    return _only(_largest(reference, test))


@metric(
    "snr",
    summary="Signal-to-noise ratio: the reference's mean square over that of the error.",
    colour=ColourPolicy.JOINT,
    source="Gonzalez and Woods, Digital Image Processing, 4th ed. (2018), section 5.8",
    unit="dB",
    values="−∞ to ∞",
    better="higher",
    identical=math.inf,
    tolerance=0.01,
    mask="samples",
    integers=True,
    sums=Sums(_squares_and_power, _below_signal),
)
def snr(reference: Samples, test: Samples) -> float:
    """`10 log10(Σ x² / Σ (x - y)²)` in dB, over all samples of all channels.

    Minus infinity where the reference is all 0.
    """
    return _below_signal(_squares_and_power(reference, test))


@metric(
    "psnr-b",
    summary="PSNR that counts the steps at block borders of the test picture as error too.",
    colour=ColourPolicy.LUMA,
    source="Yim and Bovik, IEEE Trans. Image Processing 20(1), 2011, doi:10.1109/TIP.2010.2061859",
    unit="dB",
    values="up to ∞",
    better="higher",
    identical=None,
    smallest="twice the block, 16x16",
    tolerance=0.01,
)
def psnr_b(
    reference: Pixels,
    test: Pixels,
    peak: float = 1.0,
    *,
    block: Annotated[int, Count(2, 256), "side of the blocks, px"] = 8,
) -> float:
    """`10 log10(peak² / (mse + η (D - D')))`, on luma.

    D and D' are the mean squared differences of neighbours in the test picture across block
    borders and elsewhere, both directions together; `η = log2(block) / log2(min(h, w))` where D
    exceeds D', 0 otherwise. Blocks begin at the upper left corner. At most the PSNR of luma. Of
    identical pictures infinity, unless the picture itself has steps at the borders. Raises
    `PictureError` where a side is shorter than two blocks.
    """
    height, width = test.shape
    check_size("psnr-b", test, 2 * block)
    at_border, counts = np.zeros(2), np.zeros(2)
    for axis in (0, 1):
        squares = np.diff(test, axis=axis) ** 2
        border = (np.arange(squares.shape[axis]) + 1) % block == 0
        lines = squares.sum(axis=1 - axis)
        at_border += lines[border].sum(), lines[~border].sum()
        counts += border.sum() * test.shape[1 - axis], (~border).sum() * test.shape[1 - axis]
    across, elsewhere = at_border / counts
    weight = math.log2(block) / math.log2(min(height, width)) if across > elsewhere else 0.0
    error = mse(reference, test) + weight * float(across - elsewhere)
    return math.inf if error == 0 else 10 * math.log10(peak**2 / error)


@metric(
    "csf-psnr",
    summary="PSNR of the error weighted by the eye's contrast sensitivity.",
    colour=ColourPolicy.LUMA,
    source="Mannos and Sakrison, IEEE Trans. Information Theory 20(4), 1974, "
    "doi:10.1109/TIT.1974.1055250",
    unit="dB",
    values="up to ∞",
    better="higher",
    identical=math.inf,
    tolerance=0.01,
)
def csf_psnr(
    reference: Pixels,
    test: Pixels,
    peak: float = 1.0,
    *,
    px_per_degree: Annotated[
        float,
        Number(4, 400),
        "samples per degree of visual angle; 60 is a usual screen at arm's length",
    ] = 60.0,
) -> float:
    """`10 log10(peak² / mean of |E A|²)`, E the error's spectrum, on luma.

    `A(f) = 2.6 (0.0192 + 0.114 f) exp(-(0.114 f)^1.1)`, f in cycles per degree of visual angle,
    scaled to 1 at its maximum; below that maximum A is 1, so that an error of the mean counts. At
    least the PSNR of luma.
    """
    from scipy.fft import rfft2

    height, width = reference.shape
    spectrum = np.abs(rfft2(reference - test, workers=threads())) ** 2
    fy, fx = np.fft.fftfreq(height)[:, np.newaxis], np.fft.rfftfreq(width)[np.newaxis]
    frequency = np.hypot(fy, fx) * px_per_degree
    weight = _sensitivity(np.maximum(frequency, _MOST_SENSITIVE))
    spectrum *= (weight / _sensitivity(np.array(_MOST_SENSITIVE))) ** 2
    # Every column of the half plane but the first, and the last of an even width, counts twice.
    spectrum[:, 1 : (width + 1) // 2] *= 2
    error = float(spectrum.sum()) / (height * width) ** 2
    return math.inf if error == 0 else 10 * math.log10(peak**2 / error)


#: Cycles per degree at which Mannos and Sakrison's function has its maximum.
_MOST_SENSITIVE = 7.8909


def _sensitivity(frequency: Float64) -> Float64:
    x = 0.114 * frequency
    return np.asarray(2.6 * (0.0192 + x) * np.exp(-(x**1.1)))


def _root_ratio(above: float, below: float) -> float:
    if above == 0:
        return 0.0
    return math.sqrt(above / below) if below > 0 else math.inf
