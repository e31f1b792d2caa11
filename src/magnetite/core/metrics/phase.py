"""Similarity of features: where the phases of all frequencies agree, the eye sees one."""

from __future__ import annotations

import math

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.compute.sharing import shared
from magnetite.core.compute.threads import threads
from magnetite.core.methods.catalogue import ColourPolicy, metric
from magnetite.core.picture.least_size import check_size

#: Bank of log-Gabor filters (Zhang, Zhang, Mou and Zhang 2011, section IV; Kovesi 1999).
_SCALES, _ORIENTATIONS, _SHORTEST_WAVE, _FACTOR = 4, 4, 6.0, 2.0
_BANDWIDTH, _ANGULAR_SD = 0.55, math.pi / 4 / 1.2
#: Noise is taken to reach this many sd above its mean energy; the remainder is scaled.
_NOISE_SDS, _NOISE_SCALE = 2.0, 1.7
_TINY = 1e-4
#: Stabilising constants of phase congruency and of gradients on the scale of 8 bits.
_T1, _T2 = 0.85, 160.0
#: The shorter side is brought near to this many px.
_SIDE = 256


@metric(
    "fsim",
    summary="Feature similarity: agreement of phase congruency and gradients, where features are.",
    colour=ColourPolicy.LUMA,
    source="Zhang, Zhang, Mou and Zhang, IEEE Trans. Image Processing 20(8), 2011, "
    "doi:10.1109/TIP.2011.2109730",
    unit="",
    better="higher",
    identical=1.0,
    values="0 to 1",
    smallest="16x16",
    memory=130,
)
def fsim(reference: Pixels, test: Pixels, peak: float = 1.0) -> float:
    """`Σ S_pc S_g m / Σ m`, m the larger phase congruency of both pictures, on luma.

    `S_pc = (2 p q + 0.85) / (p² + q² + 0.85)` of the phase congruencies (see `phase_congruency`),
    `S_g = (2 g h + 160) / (g² + h² + 160)` of the gradient magnitudes by Scharr's kernels
    (sixteenths, mirrored at the edge) on the scale of 8 bits. Before that, blocks of F x F samples
    become their mean, F the shorter side over 256, rounded (half up), at least 1; rows and columns
    that fill no block are left out. Where neither picture has a feature, the mean of S_g.
    """
    check_size("fsim", reference, 16)
    factor = max(1, math.floor(min(reference.shape) / _SIDE + 0.5))

    (p, g), (q, h) = (
        shared(_features, plane, factor=factor, peak=peak) for plane in (reference, test)
    )
    alike = _alike(g, h, _T2)
    features = np.maximum(p, q)
    total = float(features.sum())
    if total == 0:
        return float(alike.mean())
    return float((_alike(p, q, _T1) * alike * features).sum()) / total


def _features(plane: Pixels, factor: int, peak: float) -> tuple[Float64, Float64]:
    """Phase congruency and gradient of a reduced plane."""
    reduced = _block_means(plane, factor) * (255 / peak)
    return phase_congruency(reduced), _scharr(reduced)


def _alike(a: Float64, b: Float64, constant: float) -> Float64:
    return (2 * a * b + constant) / (a * a + b * b + constant)


def _block_means(plane: Pixels, factor: int) -> Float64:
    rows, columns = (side // factor for side in plane.shape)
    cut = plane[: rows * factor, : columns * factor]
    return np.asarray(cut.reshape(rows, factor, columns, factor).mean(axis=(1, 3)), np.float64)


def _scharr(plane: Float64) -> Float64:
    from scipy.ndimage import correlate1d

    smooth, slope = np.array([3, 10, 3]) / 16, np.array([-1, 0, 1])
    parts = (
        correlate1d(correlate1d(plane, slope, axis, mode="reflect"), smooth, 1 - axis,
                    mode="reflect")
        for axis in (0, 1)
    )  # fmt: skip
    return np.asarray(np.hypot(*parts))


def phase_congruency(plane: Float64) -> Float64:
    """How far all frequencies agree in phase at each sample, shape (h, w), 0 to 1.

    `Σ_o max(E_o - T_o, 0) / Σ_o Σ_s A_so`: log-Gabor filters of 4 scales (shortest wave 6 px,
    each twice the one before) and 4 orientations give even and odd responses, of amplitude A;
    E sums their components along the mean phase less those across. T is the energy
    that noise would reach, estimated from the median amplitude at the finest scale. The picture is
    taken to repeat beyond its edges.

    Source: Kovesi, Videre 1(3), 1999, as used by Zhang et al. (2011).
    """
    from scipy.fft import fft2, ifft2

    spectrum = fft2(plane, workers=threads())
    energy, amplitude = np.zeros(plane.shape), np.zeros(plane.shape)
    radial, angle = _radial_filters(plane.shape)
    for o in range(_ORIENTATIONS):
        turned = _angular_filter(angle, o * math.pi / _ORIENTATIONS)
        filters = [line * turned for line in radial]
        responses = [ifft2(spectrum * f, workers=threads()) for f in filters]
        magnitudes = [np.abs(response) for response in responses]
        total = np.sum(responses, axis=0)
        along = total / (np.abs(total) + _TINY)
        # re(z conj(along)) lies along the mean phase, im(z conj(along)) across it.
        relative = [response * along.conj() for response in responses]
        agreed = np.sum([z.real - np.abs(z.imag) for z in relative], axis=0)
        energy += (agreed - _noise_energy(magnitudes[0], filters)).clip(0, None)
        amplitude += np.sum(magnitudes, axis=0)
    return np.divide(energy, amplitude, out=np.zeros_like(energy), where=amplitude > 1e-9)


def _noise_energy(finest: Float64, filters: list[Float64]) -> float:
    """Energy that noise reaches, from the median power of the finest response."""
    power = float(np.median(finest**2)) / math.log(2) / float((filters[0] ** 2).sum())
    squares = [float((f * f).sum()) for f in filters]
    crossed = sum(
        float((f * g).sum()) for i, f in enumerate(filters) for g in filters[i + 1 :]
    )  # fmt: skip
    spread = math.sqrt(power * (sum(squares) + 2 * crossed) / 2)
    mean, sd = spread * math.sqrt(math.pi / 2), spread * math.sqrt(2 - math.pi / 2)
    return (mean + _NOISE_SDS * sd) / _NOISE_SCALE


def _radial_filters(shape: tuple[int, ...]) -> tuple[list[Float64], Float64]:
    """Log-Gabor profiles over frequency, finest first, and the angle of each frequency."""
    fy, fx = np.fft.fftfreq(shape[0])[:, np.newaxis], np.fft.fftfreq(shape[1])[np.newaxis]
    radius: Float64 = np.hypot(fy, fx)
    radius[0, 0] = 1.0
    corners = 1 / (1 + (radius / 0.45) ** 30)  # keeps the corners of the spectrum out
    profiles = []
    for s in range(_SCALES):
        centre = 1 / (_SHORTEST_WAVE * _FACTOR**s)
        profile = np.exp(-(np.log(radius / centre) ** 2) / (2 * math.log(_BANDWIDTH) ** 2))
        profile = profile * corners
        profile[0, 0] = 0.0
        profiles.append(profile)
    return profiles, np.arctan2(-fy, fx)


def _angular_filter(angle: Float64, direction: float) -> Float64:
    apart = np.abs(np.arctan2(np.sin(angle - direction), np.cos(angle - direction)))
    return np.exp(-(apart**2) / (2 * _ANGULAR_SD**2))
