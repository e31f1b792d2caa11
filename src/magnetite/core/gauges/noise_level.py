"""Gauges of noise."""

from __future__ import annotations

import math
from typing import Annotated, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Float64, Indices, Pixels
from magnetite.core.compute.bands import bands
from magnetite.core.compute.diagonals import diagonals
from magnetite.core.errors import PictureError
from magnetite.core.methods.amplitudes import SampleStep
from magnetite.core.methods.catalogue import ColourPolicy, gauge
from magnetite.core.methods.sums import Part, Sums, Totals, quotient
from magnetite.core.picture.least_size import check_size

#: Median of |n| for a standard normal n.
_NORMAL_MEDIAN = 0.6744897501960817
#: Side of the tiles of a noise curve, px, and the fewest of them behind a point.
_TILE, _LEAST_TILES = 8, 8
#: Largest share of its tiles that may touch black or full scale: at a distance of 3 sd of the
#: noise 1 - Φ(3)^64 = 8 % do.
_MOST_TOUCHING = 0.1
#: Medians that are taken at a time.
_AT_A_TIME = 2**18
#: Step of the smallest depth that samples are held to.
_LARGEST_STEP = 1 / 255
#: Samples this near to whole digital numbers are taken for them: float32 holds 16 bits so well.
_ON_LEVEL = 0.02


def sample_counts(pixels: Pixels, peak: float, step: float) -> Indices:
    """Counts of each digital number, pixels of any shape; `step` as in `noise_wavelet`, not 0."""
    return _count(np.asarray(pixels) / (step * peak), round(1 / step))


def diagonal_counts(pixels: Pixels, peak: float, step: float) -> Totals:
    """Counts of diagonal coefficients by size, in halves of a step, and of numbers; of a plane."""
    sizes = np.abs(diagonals(pixels)) / (step * peak / 2)
    return _count(sizes, 4 * round(1 / step)), sample_counts(pixels, peak, step)


def _count(numbers: Pixels, largest: int) -> Indices:
    return np.bincount(np.rint(numbers).astype(np.intp).ravel(), minlength=largest + 1)


def noise_of_counts(totals: Totals, peak: float, step: float) -> float:
    """`noise_wavelet` by `diagonal_counts`."""
    fine, numbers = totals
    own = max(step, _step_of(np.flatnonzero(numbers) * step))
    level = np.rint(np.arange(fine.size) * (step / own)).astype(np.intp)
    counts = np.bincount(level, weights=fine).astype(np.intp)
    size, reached = int(counts.sum()), np.cumsum(counts)
    middle = int(np.searchsorted(reached, size // 2, side="right"))
    ties = int(counts[middle])
    median = _within_ties(middle, size / 2 - (int(reached[middle]) - ties), ties)
    return own * peak / 2 * median / _NORMAL_MEDIAN


@gauge(
    "noise-wavelet",
    summary="Noise sd by the median of the finest diagonal wavelet coefficients.",
    colour=ColourPolicy.EACH,
    source="Donoho and Johnstone, Biometrika 81(3), 1994, doi:10.1093/biomet/81.3.425",
    unit="dn",
    values="0 and up",
    smallest="2x2",
    sums=Sums(diagonal_counts, noise_of_counts, digital=True),
)
def noise_wavelet(
    pixels: Pixels, peak: float = 1.0, *, step: Annotated[float | None, SampleStep()] = None
) -> float:
    """`median(|d|) / 0.6745`, d the Haar coefficients `(a - b - c + e) / 2` of 2x2 samples.

    An odd last row or column is left out. The median is that of grouped data, so that whole
    digital numbers do no harm: equal |d| are spread over half a step of the picture. Fine
    texture counts as noise as far as it fills more than half of the picture.

    The resolution is 0.37 of a step, `1 / (4 * 0.6745)`: where more than half of the d are 0 the
    noise lies below the picture's resolution, and the figure is 0; flat and clipped samples
    count, which `noise-blocks` leaves out. The step is that of the
    samples, not of the file: 8 bits stored as 16 give the figure of 8 bits. 0 below the resolution
    of the digital numbers: where all samples lie on the levels of a smaller depth of 8 to 16 bits,
    of that depth.
    """
    check_size("noise-wavelet", pixels, 2)
    return noise_sd(pixels, peak, step)


def noise_sd(pixels: Pixels, peak: float = 1.0, step: float | None = None) -> float:
    """`noise_wavelet` of one plane."""
    return float(normal_sd(diagonals(pixels), own_step(pixels, peak, step) * peak))


def own_step(pixels: Pixels, peak: float, stated: float | None) -> float:
    """The stated step, or that of the smallest depth for samples of any shape, if larger."""
    if stated is not None and stated >= _LARGEST_STEP:
        return stated
    return max(stated or 0.0, sample_step(pixels, peak))


def sample_step(pixels: Pixels, peak: float = 1.0) -> float:
    """Distance of two digital numbers, of full scale: that of the smallest depth that fits.

    Of pixels of any shape.

    0 where the samples lie on the levels of no depth of 8 to 16 bits.
    """
    shares = np.asarray(pixels).ravel() / peak
    some = _step_of(shares[:_AT_A_TIME])
    return some if some == 0 or shares.size <= _AT_A_TIME else _step_of(shares)


def _step_of(shares: NDArray[np.floating[Any]]) -> float:
    """The same of samples that are shares of full scale."""
    for bits in range(8, 17):
        numbers = shares * (2**bits - 1)
        if float(np.abs(numbers - np.rint(numbers)).max()) < _ON_LEVEL:
            return 1.0 / float(2**bits - 1)
    return 0.0


def normal_sd(coefficients: NDArray[np.floating[Any]], step: float) -> float:
    """Sd of normal numbers, any shape, from their median size; `step` is that of the samples."""
    return grouped_median(np.abs(coefficients).ravel(), step / 2) / _NORMAL_MEDIAN


def grouped_median(values: NDArray[np.floating[Any]], width: float) -> float:
    """Median of values, any shape, of 0 or more that may be rounded to multiples of a width.

    Those at the middle level are taken to lie evenly within half a width of it, so that ties
    move the median by no more than that. Where most values are 0 the median is below the one they
    can show, and 0. A width of 0 gives the plain median.
    """
    if width > 0:
        values = np.rint(values / width)
    middle = float(np.partition(values, values.size // 2)[values.size // 2])
    if width == 0 or middle == 0:
        return middle
    below = int((values < middle).sum())
    ties = int((values == middle).sum())
    return float(width * _within_ties(middle, values.size / 2 - below, ties))


def _within_ties(middle: float, rank: float, ties: int) -> float:
    """Position of the median in the middle level, its ties spread evenly; 0 in the lowest."""
    return middle - 0.5 + rank / ties if middle > 0 else 0.0


def _masked(pixels: Pixels) -> Totals:
    across = pixels[:, :-2] - 2 * pixels[:, 1:-1] + pixels[:, 2:]
    both = across[:-2] - 2 * across[1:-1] + across[2:]
    return float(np.abs(both).sum()), both.size


def _sd_of_masked(totals: Totals) -> float:
    return quotient(totals) * math.sqrt(math.pi / 2) / 6


@gauge(
    "noise-mask",
    summary="Noise sd by a mask that edges and slopes do not excite.",
    colour=ColourPolicy.EACH,
    source="Immerkaer, Computer Vision and Image Understanding 64(2), 1996, "
    "doi:10.1006/cviu.1996.0060",
    unit="dn",
    values="0 and up",
    smallest="3x3",
    sums=Sums(_masked, _sd_of_masked, overlap=2),
)
def noise_mask(pixels: Pixels) -> float:
    """`√(π/2) / 6 mean |x * M|`, M = [1 -2 1; -2 4 -2; 1 -2 1], over the inner samples.

    Thin lines and texture add to it.
    """
    check_size("noise-mask", pixels, 3)
    return _sd_of_masked(_masked(pixels))


def _impulses(pixels: Pixels, peak: float, part: Part) -> Totals:
    first, last = int(not part.top), len(pixels) - int(not part.bottom)
    own = pixels[first:last]
    row, column = np.nonzero((own <= 0) | (own >= peak))
    padded, found = np.pad(pixels, 1, mode="symmetric"), 0
    for some in bands(row.size, _AT_A_TIME):
        y, x = row[some] + first, column[some]
        around = np.stack([padded[y + i, x + j] for i in range(3) for j in range(3)])
        middle = np.partition(around, 4, axis=0)[4]
        found += int(np.count_nonzero(np.abs(pixels[y, x] - middle) > 0.2 * peak))
    return found, own.size


@gauge(
    "impulse-share",
    summary="Share of samples at black or full scale that stand out from their neighbours.",
    colour=ColourPolicy.EACH,
    source="after Wang and Zhang, IEEE Trans. Circuits and Systems II 46(1), 1999, "
    "doi:10.1109/82.749102",
    unit="share",
    values="0 to 1",
    smallest="3x3",
    sums=Sums(_impulses, quotient, overlap=2),
)
def impulse_share(pixels: Pixels, peak: float = 1.0) -> float:
    """Share of samples that are 0 or full scale and 20 % of it away from their 3x3 median.

    Salt and pepper is found where it is sparse enough for the median to be right.
    """
    check_size("impulse-share", pixels, 3)
    return quotient(_impulses(pixels, peak, Part(len(pixels))))


class NoiseCurve(NamedTuple):
    """Noise sd over signal, both in the array's unit, and the samples behind each point."""

    signal: Float64
    sd: Float64
    samples: Indices

    @property
    def error(self) -> Float64:
        """Standard error of each sd: of the median of a coefficient for each four samples."""
        return np.asarray(1.17 * self.sd / np.sqrt(self.samples / 4))


def noise_curve(pixels: Pixels, peak: float = 1.0, levels: int = 16) -> NoiseCurve:
    """Noise that depends on the signal, estimated from the smoothest quarter of one picture.

    Tiles of 8x8 samples are sorted by their mean into even steps of full scale. At each level the
    quarter of them whose 2x2 means vary least gives the sd, by the median of their diagonal Haar
    coefficients as in `noise_wavelet`. The choice does not bias it: sums and diagonal differences
    of white noise are independent. Tiles that touch black or full scale are left out, and so are
    levels where more than a tenth of the smoothest do: clipping narrows the noise there.

    Parameters
    ----------
    pixels : array, shape (h, w), or (h, w, n), of which all channels go in together
    peak : float
        Full scale of the array.
    levels : int
        Steps of full scale; those with fewer than 8 tiles are left out too.

    Raises
    ------
    PictureError
        If no level is left.

    Notes
    -----
    After Liu, Freeman, Szeliski and Kang, IEEE CVPR 2006, doi:10.1109/CVPR.2006.207.
    """
    planes = [pixels] if pixels.ndim == 2 else [pixels[..., c] for c in range(pixels.shape[2])]
    mean, variation, touching, diagonal = (
        np.concatenate(parts) for parts in zip(*(_tiles(p, peak) for p in planes), strict=True)
    )
    signal, sd, count = [], [], []
    spacing = sample_step(pixels, peak) * peak
    level = np.floor(mean / peak * levels).astype(int)
    for step in range(levels):
        at = np.flatnonzero(level == step)
        if at.size < _LEAST_TILES:
            continue
        smooth = at[np.argsort(variation[at], kind="stable")[: max(_LEAST_TILES, at.size // 4)]]
        if touching[smooth].mean() > _MOST_TOUCHING:
            continue
        smooth = smooth[~touching[smooth]]
        signal.append(float(mean[smooth].mean()))
        sd.append(normal_sd(diagonal[smooth], spacing))
        count.append(int(smooth.size * _TILE**2))
    if not count:
        raise PictureError(
            f"the noise curve needs {_LEAST_TILES} tiles of {_TILE}x{_TILE} px of like brightness, "
            "apart from black and full scale"
        )
    return NoiseCurve(np.array(signal), np.array(sd), np.array(count, np.intp))


def _tiles(plane: Pixels, peak: float) -> tuple[Any, ...]:
    """Of each tile the mean, variance of 2x2 means, whether it touches an end, 16 coefficients."""
    rows, columns = (side // _TILE for side in plane.shape)
    cut = np.asarray(plane[: rows * _TILE, : columns * _TILE], np.float64)
    tiles = cut.reshape(rows, _TILE, columns, _TILE).swapaxes(1, 2).reshape(-1, _TILE, _TILE)
    ended = (tiles <= 0) | (tiles >= peak)
    some = ~ended.all(axis=(1, 2))
    tiles, ended = tiles[some], ended[some]
    a, b, c, d = (tiles[:, i::2, j::2] for i in (0, 1) for j in (0, 1))
    means = (a + b + c + d) / 4
    diagonal = ((a - b - c + d) / 2).reshape(len(tiles), (_TILE // 2) ** 2)
    return means.mean(axis=(1, 2)), means.var(axis=(1, 2)), ended.any(axis=(1, 2)), diagonal
