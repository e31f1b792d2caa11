"""Metrics of structure."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Annotated

import numpy as np

from magnetite.core.arrays import Float64, Mask, Pixels, Samples
from magnetite.core.compute.compiling import WORTH_COMPILING
from magnetite.core.compute.sharing import shared
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.errors import PictureError
from magnetite.core.methods.catalogue import ColourPolicy, metric
from magnetite.core.methods.parameters import Count, Length, Number
from magnetite.core.methods.sums import Sums, Totals, quotient
from magnetite.core.metrics._ssim_terms import (
    Term,
    contrast,
    contrast_structure,
    luminance,
    similarity,
    structure,
    term_map,
)
from magnetite.core.metrics.kernels.moments import (
    Moments,
    check_window,
    halved,
    totals_within,
    window_moments,
)

_WANG_2004 = (
    "Wang, Bovik, Sheikh and Simoncelli, IEEE Trans. Image Processing 13(4), 2004, "
    "doi:10.1109/TIP.2003.819861"
)

Window = Annotated[int, Count(3, 99, odd=True), "side of the window, px"]
WindowSd = Annotated[float, Length(0.1, 100), "standard deviation of its weights"]
K1 = Annotated[float, Number(0, 1), "stabilising constant of the means"]
K2 = Annotated[float, Number(0, 1), "stabilising constant of the variances"]

#: Exponents of the five scales, finest first (Wang, Simoncelli, Bovik 2003, section 3.2).
SCALE_WEIGHTS = (0.0448, 0.2856, 0.3001, 0.2363, 0.1333)
#: The 11x11 window must fit at the last of the scales.
SMALLEST_MS_SSIM = 11 * 2 ** (len(SCALE_WEIGHTS) - 1)

#: Scores within this of 1 may be those of identical pictures.
_ROUNDING = 1e-6


def _rows_of_window(window: int) -> int:
    return window - 1


def _similarity_totals(
    reference: Samples,
    test: Samples,
    peak: float = 1.0,
    within: Mask = None,
    *,
    window: int = 11,
    window_sd: float = 1.5,
    k1: float = 0.01,
    k2: float = 0.03,
) -> Totals:
    """SSIM summed over all windows, and their number."""
    check_window("ssim", reference, window)
    weights = gaussian_kernel(window_sd, radius=window // 2)
    c1, c2 = (k1 * peak) ** 2, (k2 * peak) ** 2
    if _worth_summing(reference, within, window, c1, c2):
        from magnetite.core.metrics.kernels.ssim_bands import summed_similarity

        return summed_similarity(reference, test, weights, c1, c2)
    moments = window_moments(reference, test, weights)
    return totals_within(term_map(similarity, moments, c1, c2), within, window)


def _worth_summing(plane: Samples, within: Mask, window: int, c1: float, c2: float) -> bool:
    """Whether the compiled sums over windows apply, and save more time than they take to load."""
    usual = within is None and window == 11 and min(c1, c2) > 0
    return usual and plane.size >= WORTH_COMPILING


@metric(
    "ssim",
    summary="Structural similarity, mean over all windows that fit.",
    colour=ColourPolicy.EACH,
    source=_WANG_2004,
    unit="",
    values="−1 to 1",
    better="higher",
    identical=1.0,
    tolerance=0.0005,
    smallest="the window, 11x11",
    mask="windows",
    integers=True,
    sums=Sums(_similarity_totals, quotient, overlap=_rows_of_window),
)
def ssim(
    reference: Samples,
    test: Samples,
    peak: float = 1.0,
    within: Mask = None,
    *,
    window: Window = 11,
    window_sd: WindowSd = 1.5,
    k1: K1 = 0.01,
    k2: K2 = 0.03,
) -> float:
    """Structural similarity index, equation 13 of the source, without downsampling.

    In each window, with Gaussian weights of unit sum, the means, variances and covariance
    (population moments) give `(2 mx my + C1)(2 sxy + C2) / ((mx² + my² + C1)(sx² + sy² + C2))`,
    `C1 = (k1 peak)²`, `C2 = (k2 peak)²`; the score is the mean over the windows that lie wholly
    inside the picture, and over the channels. Of a mask, only windows wholly inside count. Raises
    `PictureError` where the window does not fit into the picture.
    """
    check_window("ssim", reference, window)
    similar = quotient(
        _similarity_totals(
            reference, test, peak, within, window=window, window_sd=window_sd, k1=k1, k2=k2
        )
    )
    return _exact(similar, reference, test)


def _exact(mean: float, reference: Samples, test: Samples) -> float:
    """The mean of a term, exactly 1 for identical arrays."""
    return 1.0 if abs(mean - 1) < _ROUNDING and np.array_equal(reference, test) else mean


def _part_totals(term: Term) -> Callable[..., Totals]:
    """Accumulator of one term of SSIM over all windows."""

    def totals(
        reference: Pixels,
        test: Pixels,
        peak: float = 1.0,
        within: Mask = None,
        *,
        window: int = 11,
        window_sd: float = 1.5,
        k1: float = 0.01,
        k2: float = 0.03,
    ) -> Totals:
        check_window("ssim", reference, window)
        c1, c2 = (k1 * peak) ** 2, (k2 * peak) ** 2
        if _worth_summing(reference, within, window, c1, c2):
            return _term_totals(reference, test, window_sd, c1, c2)[term.__name__]
        moments = window_moments(reference, test, gaussian_kernel(window_sd, radius=window // 2))
        return totals_within(term_map(term, moments, c1, c2), within, window)

    return totals


def _term_totals(
    reference: Samples, test: Samples, window_sd: float, c1: float, c2: float
) -> dict[str, Totals]:
    """Sums of all terms of SSIM over 11x11 windows, taken once for a pair."""
    from magnetite.core.metrics.kernels.ssim_bands import summed_terms

    weights = gaussian_kernel(window_sd, radius=5)
    return shared(summed_terms, reference, test, weights=weights, c1=c1, c2=c2)


def _part_of_ssim(term: Term, totals: Callable[..., Totals]) -> Callable[..., float]:
    def part(
        reference: Pixels,
        test: Pixels,
        peak: float = 1.0,
        within: Mask = None,
        *,
        window: Window = 11,
        window_sd: WindowSd = 1.5,
        k1: K1 = 0.01,
        k2: K2 = 0.03,
    ) -> float:
        settings = {"window": window, "window_sd": window_sd, "k1": k1, "k2": k2}
        mean = quotient(totals(reference, test, peak, within, **settings))
        return _exact(mean, reference, test)

    part.__name__ = f"ssim_{term.__name__}"
    formula = (term.__doc__ or "").rstrip(".")
    part.__doc__ = f"""{formula}, mean over the windows that fit and over the channels.

    Equations 6, 9 and 10 of the source, with C3 = C2 / 2; the product of the three terms of a
    window is its SSIM.
    """
    return part


def _declare_part(term: Term) -> Callable[..., float]:
    totals = _part_totals(term)
    return metric(
        f"ssim-{term.__name__}",
        summary=f"The {term.__name__} term of SSIM, mean over all windows that fit.",
        colour=ColourPolicy.EACH,
        source=_WANG_2004,
        unit="",
        values="−1 to 1" if term is structure else "0 to 1",
        better="higher",
        identical=1.0,
        tolerance=0.0005,
        smallest="the window, 11x11",
        mask="windows",
        sums=Sums(totals, quotient, overlap=_rows_of_window),
    )(_part_of_ssim(term, totals))


ssim_luminance, ssim_contrast, ssim_structure = map(_declare_part, (luminance, contrast, structure))


@metric(
    "ms-ssim",
    summary="Structural similarity over five scales, each half the size of the one before.",
    colour=ColourPolicy.EACH,
    source="Wang, Simoncelli and Bovik, Asilomar Conf. Signals, Systems and Computers, 2003, "
    "doi:10.1109/ACSSC.2003.1292216",
    unit="",
    values="0 to 1",
    better="higher",
    identical=1.0,
    tolerance=0.0005,
    smallest=f"{SMALLEST_MS_SSIM}x{SMALLEST_MS_SSIM}",
    memory=80,
)
def ms_ssim(reference: Pixels, test: Pixels, peak: float = 1.0) -> float:
    """`l5^0.1333 cs1^0.0448 cs2^0.2856 cs3^0.3001 cs4^0.2363 cs5^0.1333`.

    `cs` is the mean over the windows that fit of SSIM's contrast and structure terms, at each
    scale; `l5` that of the luminance term at the last. From scale to scale 2x2 samples become
    their mean; an odd last row or column is left out. A negative mean counts as 0, so that no
    power is complex. Window, K1 and K2 as in `ssim`.
    """
    if min(reference.shape) < SMALLEST_MS_SSIM:
        raise PictureError(
            f"ms-ssim needs at least {SMALLEST_MS_SSIM}x{SMALLEST_MS_SSIM} samples, not "
            f"{reference.shape[1]}x{reference.shape[0]}; ssim takes smaller pictures"
        )
    weights = gaussian_kernel(1.5, radius=5)
    c1, c2 = (0.01 * peak) ** 2, (0.03 * peak) ** 2
    pair = reference, test
    result: float = 1.0
    for scale, power in enumerate(SCALE_WEIGHTS):
        if scale:
            reference, test = halved(reference), halved(test)
        if reference.size >= WORTH_COMPILING:
            terms = _term_totals(reference, test, 1.5, c1, c2)
            mean, lightness = (quotient(terms[n]) for n in ("contrast_structure", "luminance"))
        else:
            moments = window_moments(reference, test, weights)
            mean, lightness = (
                float(term_map(term, moments, c1, c2).mean())
                for term in (contrast_structure, luminance)
            )
        result *= math.pow(max(0.0, mean), power)
    return _exact(result * math.pow(max(0.0, lightness), SCALE_WEIGHTS[-1]), *pair)


def _quality_totals(
    reference: Pixels, test: Pixels, peak: float = 1.0, within: Mask = None, *, window: int = 8
) -> Totals:
    """The quality index summed over all windows, and their number."""
    check_window("uqi", reference, window)
    tiny = 1e-12 * peak**2

    def quality(m: Moments, c1: float, c2: float) -> Float64:
        varies = m.variance_x + m.variance_y > tiny
        held = m._replace(
            variance_x=m.variance_x * varies,
            variance_y=m.variance_y * varies,
            covariance=m.covariance * varies,
        )
        return similarity(held, c1, c2)

    moments = window_moments(reference, test, np.full(window, 1 / window))
    return totals_within(term_map(quality, moments, 0.0, 0.0), within, window)


@metric(
    "uqi",
    summary="Universal quality index: SSIM's forerunner, without constants, on even windows.",
    colour=ColourPolicy.EACH,
    source="Wang and Bovik, IEEE Signal Processing Letters 9(3), 2002, doi:10.1109/97.995823",
    unit="",
    values="−1 to 1",
    better="higher",
    identical=1.0,
    tolerance=0.0005,
    smallest="the window, 8x8",
    mask="windows",
    sums=Sums(_quality_totals, quotient, overlap=_rows_of_window),
)
def uqi(
    reference: Pixels,
    test: Pixels,
    peak: float = 1.0,
    within: Mask = None,
    *,
    window: Annotated[int, Count(2, 99), "side of the window, px"] = 8,
) -> float:
    """`4 sxy mx my / ((sx² + sy²)(mx² + my²))`, mean over all windows that fit.

    Where both variances are 0 the quotient of the means stands alone, and where both means are
    0 that of the variances; where both are, the windows agree and it is 1. Sample and
    population moments give the same.

    Variances below 1e-12 of the peak's square count as 0. Raises `PictureError` where the window
    does not fit into the picture.
    """
    check_window("uqi", reference, window)
    if np.array_equal(reference, test):
        return 1.0
    return quotient(_quality_totals(reference, test, peak, within, window=window))
