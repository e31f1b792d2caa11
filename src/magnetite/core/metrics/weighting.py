"""Structural similarity weighted by the information of each position for the eye."""

from __future__ import annotations

import math

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.compute.bands import by_bands
from magnetite.core.compute.compiling import WORTH_COMPILING
from magnetite.core.compute.sharing import shared
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.methods.catalogue import ColourPolicy, metric
from magnetite.core.metrics._ssim_terms import contrast_structure, similarity, term_map
from magnetite.core.metrics.kernels.moments import Moments, window_moments
from magnetite.core.metrics.structure import SCALE_WEIGHTS, SMALLEST_MS_SSIM
from magnetite.core.picture.least_size import check_size

#: Variance of the visual noise on the scale of 8 bits (Wang and Li 2011, section III).
VISUAL_NOISE = 0.4
_BINOMIAL = np.array([1, 4, 6, 4, 1]) / 16
_NEIGHBOURS = np.full(3, 1 / 3)
_TINY = 1e-15


@metric(
    "iw-ssim",
    summary="Structural similarity over five scales, weighted by the information at each position.",
    colour=ColourPolicy.LUMA,
    source="Wang and Li, IEEE Trans. Image Processing 20(5), 2011, doi:10.1109/TIP.2010.2092435",
    unit="",
    better="higher",
    identical=1.0,
    values="0 to 1",
    smallest=f"{SMALLEST_MS_SSIM}x{SMALLEST_MS_SSIM}",
    memory=180,
)
def iw_ssim(reference: Pixels, test: Pixels, peak: float = 1.0) -> float:
    """`Π_j (Σ w cs / Σ w)^b_j` over four bands of a Laplacian pyramid, times the lowest's mean.

    The pyramid is Burt and Adelson's with binomial weights of unit sum, mirrored about the
    edge's samples. `cs` are SSIM's contrast and structure terms of each band (11x11 windows that
    fit, on luma at the scale of 8 bits); at the lowest scale the mean of SSIM itself counts.
    `w = Σ_k log2(1 + ((v + (1 + g²) n) s² l_k + n v) / n²)` with n = 0.4; g and v are gain and
    noise variance of the test's 3x3 neighbourhood over the reference's, l_k the eigenvalues of
    the covariance of the reference's neighbourhoods (with the sample of the band below that is
    at the same position, where there is one), s² a neighbourhood's strength under it. Powers as in
    `ms_ssim`; a negative mean counts as 0. A band without any information is averaged plainly.
    """
    check_size("iw-ssim", reference, SMALLEST_MS_SSIM)
    if np.array_equal(reference, test):
        return 1.0
    scales = len(SCALE_WEIGHTS)
    one, two = (shared(_pyramid, plane, peak=peak) for plane in (reference, test))
    window = gaussian_kernel(1.5, radius=5)
    c1, c2 = (0.01 * 255) ** 2, (0.03 * 255) ** 2
    result = 1.0
    for j, power in enumerate(SCALE_WEIGHTS):
        moments = window_moments(one[j], two[j], window)
        if j == scales - 1:
            mean = float(term_map(similarity, moments, c1, c2).mean())
        else:
            below = one[j + 1] if j < scales - 2 else None
            weights = information(one[j], two[j], below)[4:-4, 4:-4]
            values = term_map(contrast_structure, moments, c1, c2)
            total = float(weights.sum())
            mean = float(np.vdot(weights, values)) / total if total else float(values.mean())
        result *= math.pow(max(0.0, mean), power)
    return result


def _pyramid(plane: Pixels, peak: float) -> list[Float64]:
    scaled = np.asarray(plane * (255 / peak), np.float64)
    return laplacian_pyramid(scaled, len(SCALE_WEIGHTS))


def laplacian_pyramid(plane: Float64, levels: int) -> list[Float64]:
    """Bands from fine to coarse, the last of them the remaining low-pass picture."""
    bands = []
    for _ in range(levels - 1):
        coarse = _smooth(plane)[::2, ::2]
        bands.append(plane - _enlarged(coarse, plane.shape))
        plane = coarse
    return [*bands, plane]


def _smooth(plane: Float64, gain: float = 1.0) -> Float64:
    if plane.size >= WORTH_COMPILING:
        from magnetite.core.compute.separable import filtered

        rows, columns = (np.pad(np.arange(side), 2, mode="reflect") for side in plane.shape)
        return np.asarray(filtered(plane, _BINOMIAL * gain, rows, columns), np.float64)
    from scipy.ndimage import correlate1d

    rows = correlate1d(plane, _BINOMIAL * gain, axis=0, mode="mirror")
    return np.asarray(correlate1d(rows, _BINOMIAL * gain, axis=1, mode="mirror"))


def _enlarged(coarse: Float64, shape: tuple[int, ...]) -> Float64:
    """Twice the size: zeros between the samples, smoothed."""
    spread = np.zeros(shape)
    spread[::2, ::2] = coarse
    return _smooth(spread, 2.0)


def information(reference: Float64, test: Float64, below: Float64 | None) -> Float64:
    """Information of a 3x3 neighbourhood, bits, shape (h - 2, w - 2); see `iw_ssim`."""
    from magnetite.core.metrics.kernels.information_bands import bits, products

    gain, noise = _channel(window_moments(reference, test, _NEIGHBOURS))
    inner = np.empty((0, 0))
    if below is not None:
        inner = np.ascontiguousarray(_enlarged(below, reference.shape)[1:-1, 1:-1])
    eigenvalues, vectors = np.linalg.eigh(products(reference, inner) / gain.size)
    held = eigenvalues > _TINY * max(1.0, float(eigenvalues[-1]))
    eigenvalues, vectors = eigenvalues[held], vectors[:, held]
    if not eigenvalues.size:
        return np.zeros_like(gain)
    # s² = yᵀ C⁻¹ y / n is the mean square of the whitened neighbourhood.
    whiten = np.ascontiguousarray((vectors / np.sqrt(eigenvalues * vectors.shape[0])).T)
    return bits(reference, inner, gain, noise, whiten, eigenvalues, VISUAL_NOISE)


def _channel(m: Moments) -> tuple[Float64, Float64]:
    """Gain from reference to test in each window, and the variance that it leaves."""
    both = by_bands(lambda *parts: np.stack(_channel_of(Moments(*parts)), axis=1), *m)
    return np.ascontiguousarray(both[:, 0]), np.ascontiguousarray(both[:, 1])


def _channel_of(m: Moments) -> tuple[Float64, Float64]:
    alive = (m.variance_x > _TINY) & (m.variance_y > _TINY)
    gain = np.divide(m.covariance, m.variance_x, out=np.zeros_like(m.covariance), where=alive)
    noise = np.where(alive, m.variance_y - gain * m.covariance, m.variance_y)
    return gain, noise.clip(0, None)
