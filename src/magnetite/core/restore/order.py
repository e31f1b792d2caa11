"""Restorations by order: medians."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np

from magnetite.core.arrays import Bools, Pixels, Samples, UInt8
from magnetite.core.compute.bands import bands, shares, worth_spreading
from magnetite.core.compute.compiling import compiled_pays
from magnetite.core.compute.filters import beyond_edges
from magnetite.core.compute.threads import each, spread
from magnetite.core.methods.catalogue import ColourPolicy, restoration
from magnetite.core.methods.parameters import Count

#: Largest window, in samples, that goes through a network of comparisons.
_LARGEST_NETWORK = 121
_BYTE = np.float32(255)
#: Side of the tiles in which samples are ranked, px: their counts stay in the cache.
_TILE = 384
#: A sample of a window is selected from in the time of this many passes of array code.
_PASSES = 4


@restoration(
    "median",
    summary="Replace each sample by the median of its window.",
    removes="noise",
    colour=ColourPolicy.EACH,
    source="Tukey, Exploratory Data Analysis (1977), chapter 7",
    reach=lambda *, size, **_: size // 2,
)
def median(
    pixels: Pixels,
    *,
    size: Annotated[
        int, Count(1, 201, odd=True), "side or diameter of the window, px; 1 changes nothing"
    ] = 3,
    shape: Annotated[Literal["square", "disk"], "shape of the window"] = "square",
) -> Pixels:
    """Median of a square or a disk of a diameter of `size` px, mirrored at the edges.

    The cost of large windows grows with their side, that of large squares of a picture of at most
    256 levels not at all. Every sample of the result is one of the picture's.
    """
    if size == 1:
        return pixels.copy()
    window = _window(size, shape)
    if not compiled_pays(_PASSES * pixels.size * int(window.sum())):
        return _by_selection(pixels, window)
    small = window.sum() <= _LARGEST_NETWORK
    if small and (found := _of_digital(pixels, window)) is not None:
        return found
    codes, full = _coded(pixels)
    if small:
        codes = _by_network(codes, window)
    elif codes.dtype == np.uint8 and shape == "square":
        codes = _by_histograms(codes, size)
    else:
        codes = _by_counts(codes, window)
    if full is None:
        return np.asarray(codes, pixels.dtype)
    return np.divide(codes, np.float32(full), dtype=np.float32)


def _by_selection(pixels: Pixels, window: Bools) -> Pixels:
    """Medians by array code."""
    reach, middle = window.shape[0] // 2, int(window.sum()) // 2
    lines, columns = (beyond_edges(side, reach, "mirror") for side in pixels.shape)
    padded = pixels[lines][:, columns]
    around = np.lib.stride_tricks.sliding_window_view(padded, window.shape)[..., window]
    return np.ascontiguousarray(np.partition(around, middle, axis=-1)[..., middle])


def _of_digital(pixels: Pixels, window: Bools) -> Pixels | None:
    """Medians of samples of 8 bits, each band in one go; None where a sample is not of 8 bits."""
    from magnetite.core.restore.kernels.order import digital, digital_rows

    first = np.ascontiguousarray(pixels[0])
    eight_bits = pixels.dtype == np.float32
    if not eight_bits or not digital(first, _BYTE, np.empty(first.size, np.uint8)):
        return None
    reach, out = window.shape[0] // 2, np.empty(pixels.shape, np.float32)
    lines, columns = (beyond_edges(side, reach, "mirror") for side in pixels.shape)
    plane = np.ascontiguousarray(pixels)

    def band(rows: slice) -> bool:
        around = lines[rows.start : rows.stop + 2 * reach]
        codes = np.empty((around.size, columns.size), np.uint8)
        if not digital_rows(plane, _BYTE, around, columns, codes):
            return False
        own = np.empty((rows.stop - rows.start, plane.shape[1]), np.uint8)
        _medians(codes, window, own)
        np.divide(own, _BYTE, out=out[rows], dtype=np.float32)
        return True

    height = plane.shape[0]
    parts = shares(height) if worth_spreading(plane) else [slice(0, height)]
    return out if all(spread(band, parts)) else None


def _medians(padded: Samples, window: Bools, out: Samples) -> None:
    """Medians of the windows of a padded band, by a network of comparisons."""
    from magnetite.core.restore.kernels.medians import SQUARES
    from magnetite.core.restore.kernels.order import median_network, network_band

    side = window.shape[0]
    if window.all() and side in SQUARES:
        SQUARES[side](padded, out)
        return
    row, column = np.nonzero(window)
    positions = (row * padded.shape[1] + column).astype(np.uint64)
    network_band(padded, positions, median_network(positions.size), out)


def _window(size: int, shape: str) -> Bools:
    if shape == "square":
        return np.ones((size, size), bool)
    y, x = np.mgrid[:size, :size] - size // 2
    return np.asarray(x**2 + y**2 <= (size / 2) ** 2)


def _coded(pixels: Pixels) -> tuple[Samples, int | None]:
    """Digital numbers of 8 or 16 bits and full scale, where the samples are such; or themselves.

    Small numbers are compared many at a time.
    """
    from magnetite.core.restore.kernels.order import digital

    if pixels.dtype == np.float32:
        plane = np.ascontiguousarray(pixels)
        for full, dtype in ((255, np.uint8), (65535, np.uint16)):
            codes = np.empty(plane.shape, dtype)
            if digital(plane.reshape(-1), np.float32(full), codes.reshape(-1)):
                return codes, full
    return pixels, None


def _by_network(codes: Samples, window: Bools) -> Samples:
    reach, out = window.shape[0] // 2, np.empty_like(codes)
    padded = np.pad(codes, reach, mode="symmetric")
    _bands(codes.shape[0], lambda a, b: _medians(padded[a : b + 2 * reach], window, out[a:b]))
    return out


def _by_histograms(codes: UInt8, size: int) -> UInt8:
    from magnetite.core.restore.kernels.order import histogram_band

    padded, out = np.pad(codes, size // 2, mode="symmetric"), np.empty_like(codes)
    _bands(codes.shape[0], lambda a, b: histogram_band(padded, a, size, out[a:b]))
    return out


def _by_counts(codes: Samples, window: Bools) -> Samples:
    """Medians by counts of whole numbers; of other samples by those of their ranks in a tile."""
    from magnetite.core.restore.kernels.order import sliding_band

    starts, side = window.argmax(axis=1), window.shape[0]
    stops = side - window[:, ::-1].argmax(axis=1)
    padded, out = np.pad(codes, side // 2, mode="symmetric"), np.empty_like(codes)
    whole = np.issubdtype(codes.dtype, np.integer)
    width = codes.shape[1] if whole else max(_TILE, 2 * side)

    def tile(rows: slice, left: int) -> None:
        columns = slice(left, min(left + width, out.shape[1]))
        part = padded[rows.start : rows.stop + side - 1, left : columns.stop + side - 1]
        if whole:
            sliding_band(part, starts, stops, int(part.max()) + 1, out[rows, columns])
            return
        values, ranks = np.unique(part, return_inverse=True)
        own = np.empty(out[rows, columns].shape, np.uint32)
        sliding_band(ranks.astype(np.uint32).reshape(part.shape), starts, stops, values.size, own)
        out[rows, columns] = values[own]

    def band(rows: slice) -> None:
        for left in range(0, out.shape[1], width):
            tile(rows, left)

    each(band, shares(out.shape[0]) if whole else bands(out.shape[0], width))
    return out


def _bands(height: int, work: Any) -> None:
    """Rows in as many bands as there are threads."""
    each(lambda rows: work(rows.start, rows.stop), shares(height))


@restoration(
    "adaptive-median",
    summary="Replace impulses by the median of a window that grows until it holds good samples.",
    colour=ColourPolicy.EACH,
    source="Hwang and Haddad, IEEE Trans. Image Processing 4(4), 1995, doi:10.1109/83.370679",
    reach=lambda *, largest: largest // 2,
)
def adaptive_median(
    pixels: Pixels,
    *,
    largest: Annotated[int, Count(3, 51, odd=True), "side of the largest window, px"] = 11,
) -> Pixels:
    """For windows of 3, 5, … px until the median lies between least and largest sample.

    A sample that itself lies between them is good and stays; another becomes the median. Where
    no window up to `largest` will do, the sample becomes that one's median.
    """
    from scipy.ndimage import maximum_filter, minimum_filter

    result, undecided = pixels.copy(), np.ones(pixels.shape, bool)
    for size in range(3, largest + 1, 2):
        low = minimum_filter(pixels, size=size, mode="reflect")
        high = maximum_filter(pixels, size=size, mode="reflect")
        middle = median(pixels, size=size)
        settled = undecided & (low < middle) & (middle < high)
        good = (low < pixels) & (pixels < high)
        change = settled & ~good if size < largest else undecided & ~(settled & good)
        # In a window of one tone no impulse can be detected.
        change &= low < high
        result[change] = middle[change]
        undecided &= ~settled
        if not undecided.any():
            break
    return result
