"""The gauge of blur that reads edges where they stand."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from magnetite.core.arrays import Float64, Pixels
from magnetite.core.compute.filters import convolve_separable
from magnetite.core.compute.sharing import shared
from magnetite.core.compute.windows import gaussian_kernel
from magnetite.core.errors import PictureError
from magnetite.core.gauges.artefacts import Grid, block_grids
from magnetite.core.gauges.noise_blocks import noise_estimate
from magnetite.core.gauges.noise_level import noise_mask, noise_wavelet
from magnetite.core.methods.catalogue import ColourPolicy, gauge
from magnetite.core.picture.least_size import check_size

#: Least height of an edge, of full scale; and in sd of the picture's noise.
_LEAST, _NOISE_SDS = 0.1, 8.0
#: Largest fall within a rise, and overshoot of its turning points that noise alone makes,
#: in sd of the noise.
_FALL, _EXCESS = 2.0, 0.6
#: Pictures with more noise than this, of full scale, are smoothed by a Gaussian of this sd, px;
#: rise of a Gaussian edge from 10 % to 90 %, in its sd.
_NOISY, _SMOOTHING, _GAUSSIAN_RISE = 0.002, 1.5, 2.5631
#: Rise of a step from one sample to the next, px.
_SHARPEST = 0.7
#: Least side of blocks whose borders are bridged, px, and the steps bridged, in excesses of the
#: grid.
_LEAST_BLOCK, _EXCESSES = 4, 3.0
_SOURCE = (
    "Marziliano, Dufaux, Winkler and Ebrahimi, Signal Processing: Image Communication 19(2), "
    "2004, doi:10.1016/j.image.2003.08.003, with the rise of ISO 12233"
)


class _Edges(NamedTuple):
    """Mean width of the edges and half its 95 % interval, px, and their number."""

    width: float
    error: float
    number: int


@gauge(
    "edge-width",
    summary="Mean 10-90 % rise of all clear edges, across them; less is sharper.",
    colour=ColourPolicy.LUMA,
    source=_SOURCE,
    unit="px",
    values="0.7 and up",
    smallest="8x8",
)
def edge_width(pixels: Pixels, peak: float = 1.0) -> float:
    """Mean distance between 10 % and 90 % of the height of edges, times the cosine of their tilt.

    Along rows where the gradient is nearer to them, else along columns, an edge is the steepest
    step of a rise (or fall) between two turning points that is at least 10 % of full scale and 8
    sd of the noise (`noise-blocks`) high. Steps at the lines of a grid of blocks that exceed the
    slope around them by up to three times the excess of the grid (`blockiness`) are replaced by a
    line between the samples beyond. Where there is noise of more than 0.2 % of full scale, the
    picture is smoothed by a Gaussian of 1.5 px, whose own rise is subtracted in squares; a rise
    may fall back by 2 sd of the noise that is left, and reaches 0.6 sd beyond its plateaus.
    Between samples runs a cubic through four of them (Catmull and Rom), so a step from one sample
    to the next has a rise of 0.71 px. Gaussian blur of sigma gives about 2.56 sigma at straight
    edges of uniform ground; from a sigma of 0.8 px on, noise of up to 3 % of full scale changes
    that by 4 % at most, noise of 5 % by 7 %. `edge-count` and `edge-width-error` give its
    certainty. Raises `PictureError` where the picture has no such edge.
    """
    return _shared_edges("edge-width", pixels, peak).width


@gauge(
    "edge-width-error",
    summary="Half of the 95 % interval of edge-width, by the scatter over tiles of 32x32.",
    colour=ColourPolicy.LUMA,
    source="Cochran, Sampling Techniques, 3rd ed. (1977), section 6.4 (ratio of cluster totals)",
    unit="px",
    values="0 to ∞",
    smallest="8x8",
)
def edge_width_error(pixels: Pixels, peak: float = 1.0) -> float:
    """`t √(Σ (s - m n)² K / (K - 1)) / Σ n` over K tiles with n edges of total width s, mean m.

    Neighbouring rows see one edge of the scene: tiles, not edges, are independent. t is Student's
    97.5 % quantile for K - 1 degrees of freedom.

    Infinite where all edges lie in one tile. Raises `PictureError` where the picture has no edge.
    """
    return _shared_edges("edge-width-error", pixels, peak).error


@gauge(
    "edge-count",
    summary="Number of the edges behind edge-width, one for each row or column that crosses one.",
    colour=ColourPolicy.LUMA,
    source=_SOURCE,
    unit="",
    values="0 and up",
    smallest="8x8",
)
def edge_count(pixels: Pixels, peak: float = 1.0) -> float:
    """How many rises `edge_width` is the mean of; 0 without an edge."""
    check_size("edge-count", pixels, 8)
    try:
        return float(_shared_edges("edge-count", pixels, peak).number)
    except PictureError:
        return 0.0


def _shared_edges(name: str, pixels: Pixels, peak: float) -> _Edges:
    """Computed once for the three gauges."""
    check_size(name, pixels, 8)
    return shared(_edges, pixels, peak=peak)


class WidthMap(NamedTuple):
    """Edge widths by position: the mean of each square tile, NaN where it has few edges."""

    #: Shape (rows, columns), px.
    widths: Float64
    #: Edges of each tile.
    numbers: Float64
    #: Side of a tile, px.
    tile: int


def edge_width_map(pixels: Pixels, peak: float = 1.0, *, least: int = 4) -> WidthMap:
    """`edge-width` of tiles of 32x32 samples: sharpness over the field of an ordinary picture.

    Parameters
    ----------
    pixels : float array, shape (h, w)
    peak : float
        Full scale.
    least : int
        Edges that a tile must have.

    Returns
    -------
    WidthMap

    Raises
    ------
    PictureError
        If the picture is smaller than 8x8.
    """
    from magnetite.core.gauges.kernels.edge_profiles import TILE

    check_size("edge-width", pixels, 8)
    sums, own = _tiles(pixels, peak)
    with np.errstate(invalid="ignore", divide="ignore"):
        means = sums[0] / sums[1]
        widths = np.maximum(_SHARPEST, np.sqrt(np.maximum(0.0, means**2 - own**2)))
    return WidthMap(np.where(sums[1] >= least, widths, np.nan), sums[1], TILE)


def _edges(pixels: Pixels, peak: float) -> _Edges:
    sums, own = _tiles(pixels, peak)
    widths, numbers = sums[:, sums[1] > 0]
    count = int(numbers.sum())
    if count == 0:
        raise PictureError(f"edge-width: no edge rises by {_LEAST:.0%} of full scale")
    mean = float(widths.sum()) / count
    error = _error(widths, numbers, mean)
    width = max(_SHARPEST, math.sqrt(max(0.0, mean**2 - own**2)))
    return _Edges(width, error * mean / width, count)  # of the root, where the own rise is off


def _tiles(pixels: Pixels, peak: float) -> tuple[Float64, float]:
    """Sums of widths and numbers of edges by tile, and the rise of the smoothing itself."""
    plane: Pixels = np.asarray(pixels / peak, np.float64)
    noise, own = _noise(plane), 0.0
    of_rows, of_columns = block_grids(plane)
    plane = _bridged(_bridged(plane, of_columns).T, of_rows).T
    if noise > _NOISY:
        plane = convolve_separable(plane, gaussian_kernel(_SMOOTHING))
        noise /= 2 * math.sqrt(math.pi) * _SMOOTHING
        own = _GAUSSIAN_RISE * _SMOOTHING
    return _tile_sums(plane, noise), own


def _bridged(plane: Pixels, grid: Grid) -> Pixels:
    """Rows without the steps that a block codec leaves at the lines of a grid."""
    columns = np.arange(grid.offset, plane.shape[1] - 1, grid.side) if grid.side else np.arange(0)
    columns = columns[columns >= 2]
    if columns.size == 0 or grid.side < _LEAST_BLOCK:
        return plane
    outer, before, after, beyond = (plane[:, columns + k] for k in (-2, -1, 0, 1))
    slope = ((before - outer) + (beyond - after)) / 2
    step = np.abs(after - before - slope) <= _EXCESSES * grid.excess
    whole = plane.copy()
    third = (beyond - outer) / 3
    whole[:, columns - 1] = np.where(step, outer + third, before)
    whole[:, columns] = np.where(step, beyond - third, after)
    return whole


def _noise(plane: Pixels) -> float:
    """Sd of the noise; of small pictures the least that a mask and wavelets find."""
    try:
        return noise_estimate(plane).sd
    except PictureError:
        # Thin lines excite the mask, and texture the median of wavelets: noise excites both.
        return min(noise_mask(plane), noise_wavelet(plane))


def _tile_sums(plane: Pixels, noise: float) -> Float64:
    """Widths and numbers of the edges along rows and along columns, by tile."""
    from magnetite.core.gauges.kernels.edge_profiles import TILE, rises

    least = max(_LEAST, _NOISE_SDS * noise)
    sums = np.zeros((2, *(-(-side // TILE) for side in plane.shape)))
    for lines, ties, turned in ((plane, True, False), (plane.T, False, True)):
        part = np.zeros((2, *(-(-side // TILE) for side in lines.shape)))
        contiguous = np.ascontiguousarray(lines, np.float64)
        rises(contiguous, least, _FALL * noise, _EXCESS * noise, ties, part)
        sums += part.swapaxes(1, 2) if turned else part
    return sums


def _error(widths: Float64, numbers: Float64, mean: float) -> float:
    """Half of the 95 % interval of a ratio of cluster totals; infinite for one cluster."""
    from scipy.special import stdtrit

    tiles = widths.size
    if tiles < 2:
        return math.inf
    scatter = float(((widths - mean * numbers) ** 2).sum()) * tiles / (tiles - 1)
    return float(stdtrit(tiles - 1, 0.975)) * math.sqrt(scatter) / float(numbers.sum())
