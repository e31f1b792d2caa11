"""Hot loops of medians: by a network of comparisons, and by histograms and counts that slide.

Positions are unsigned, so that many can be worked on at a time.
"""

from __future__ import annotations

from functools import cache

import numpy as np
from numpy.typing import NDArray

from magnetite.core.arrays import Indices, Samples, UInt8
from magnetite.core.compute.jit import compiled

#: A number as these loops take it.
Single = float | np.float32

_compiled = compiled(fastmath={"nnan", "nsz"})

#: Bytes of a row that a network works on at a time: all positions of a window stay near.
_CHUNK = 1024
_LEVELS, _PER_COARSE = 256, 16
#: Long steps of `sliding_band` are of two to that power of levels.
_SHIFT = 6


@cache
def median_network(count: int) -> NDArray[np.uint64]:
    """Pairs of positions, shape (n, 2), to put in order until the middle one is the median.

    Batcher's merging of odd and even positions (AFIPS Spring Joint Computer Conf., 1968,
    doi:10.1145/1468075.1468121), without the comparisons that the middle does not depend on.
    """
    pairs = []
    size = 1
    while size < count:
        gap = size
        while gap >= 1:
            for start in range(gap % size, count - gap, 2 * gap):
                for i in range(start, min(start + gap, count - gap)):
                    if i // (2 * size) == (i + gap) // (2 * size):
                        pairs.append((i, i + gap))
            gap //= 2
        size *= 2
    needed, kept = {count // 2}, []
    for one, two in reversed(pairs):
        if one in needed or two in needed:
            kept.append((one, two))
            needed |= {one, two}
    return np.array(kept[::-1], np.uint64).reshape(-1, 2)


@_compiled
def digital(samples: Samples, full: Single, codes: Samples) -> bool:
    """Whether all samples, any shape, are whole numbers over full scale; `codes` are those then."""
    for start in range(0, samples.size, _CHUNK):
        stop = min(samples.size, start + _CHUNK)
        part, own = samples[start:stop], codes[start:stop]
        other = 0
        for i in range(part.size):
            code = part[i] * full + np.float32(0.5)
            code = min(max(code, np.float32(0)), full)
            own[i] = code
            other += np.float32(own[i]) / full != part[i]
        if other:
            return False
    return True


@_compiled
def digital_rows(
    plane: Samples, full: Single, lines: Indices, columns: Indices, padded: Samples
) -> bool:
    """The same for some lines of a plane, widened by `columns`.

    `lines` are the plane's rows for each row of `padded`; `columns` its columns for each column.
    """
    width, reach = plane.shape[1], (columns.size - plane.shape[1]) // 2
    for y in range(padded.shape[0]):
        row, out = plane[lines[y]], padded[y]
        if not digital(row, full, out[reach : reach + width]):
            return False
        for i in range(reach):
            out[i] = out[reach + columns[i]]
            out[reach + width + i] = out[reach + columns[reach + width + i]]
    return True


@_compiled
def network_band(
    padded: Samples, positions: NDArray[np.uint64], network: NDArray[np.uint64], out: Samples
) -> None:  # fmt: skip
    """Medians of a band of rows.

    `positions` are those of the window's samples, counted in the padded band from its corner;
    `out` has shape (rows, w).
    """
    chunk, count = np.uint64(_CHUNK // padded.itemsize), positions.size
    stride, width = np.uint64(padded.shape[1]), np.uint64(out.shape[1])
    flat, result = padded.reshape(-1), out.reshape(-1)
    space = np.empty(count * _CHUNK // padded.itemsize, padded.dtype)
    for y in range(out.shape[0]):
        for left in range(np.uint64(0), width, chunk):
            some, at = min(chunk, width - left), np.uint64(y) * stride + left
            for i in range(count):
                _copy(flat, at + positions[i], space, np.uint64(i) * chunk, some)
            for i in range(network.shape[0]):
                _in_order(space, network[i, 0] * chunk, network[i, 1] * chunk, some)
            to = np.uint64(y) * width + left
            _copy(space, np.uint64(count // 2) * chunk, result, to, some)


@_compiled
def _copy(source, at, out, to, count):  # type: ignore[no-untyped-def]
    for x in range(count):
        out[to + x] = source[at + x]


@_compiled
def _in_order(space, one, two, count):  # type: ignore[no-untyped-def]
    for x in range(count):
        a, b = space[one + x], space[two + x]
        space[one + x] = a if a < b else b
        space[two + x] = b if a < b else a


@_compiled
def histogram_band(padded: UInt8, first: int, size: int, out: UInt8) -> None:
    """Medians of squares of any size of a padded plane, at a cost that does not depend on it.

    A histogram for each column slides down, one for the window slides along (Perreault and
    Hebert, IEEE Trans. Image Processing 16(9), 2007, doi:10.1109/TIP.2007.902329).
    """
    wide = padded.shape[1]
    columns = np.zeros((wide, _LEVELS), np.int16)
    for r in range(size - 1):
        for x in range(wide):
            columns[x, padded[first + r, x]] += 1
    window, half = np.empty(_LEVELS, np.int32), size * size // 2
    for y in range(out.shape[0]):
        entering, leaving = first + y + size - 1, first + y - 1
        for x in range(wide):
            columns[x, padded[entering, x]] += 1
            if y > 0:
                columns[x, padded[leaving, x]] -= 1
        window[:] = 0
        for x in range(size - 1):
            _add_column(window, columns[x])
        for x in range(out.shape[1]):
            _add_column(window, columns[x + size - 1])
            out[y, x] = _middle(window, half)
            _take_column(window, columns[x])


@_compiled
def _add_column(window, column):  # type: ignore[no-untyped-def]
    for i in range(_LEVELS):
        window[i] += column[i]


@_compiled
def _take_column(window, column):  # type: ignore[no-untyped-def]
    for i in range(_LEVELS):
        window[i] -= column[i]


@_compiled
def _middle(window, half):  # type: ignore[no-untyped-def]
    """The first level up to which more than half is counted."""
    below = 0
    for start in range(0, _LEVELS, _PER_COARSE):
        coarse = 0
        for i in range(_PER_COARSE):
            coarse += window[start + i]
        if below + coarse > half:
            for i in range(start, start + _PER_COARSE):
                below += window[i]
                if below > half:
                    return i
        below += coarse
    return _LEVELS - 1


@_compiled
def sliding_band(
    padded: Samples, starts: Indices, stops: Indices, levels: int, out: Samples
) -> None:
    """Medians of windows of any size and shape of a padded plane of whole numbers below `levels`.

    One histogram slides along each row; the median is followed from sample to sample (Huang, Yang
    and Tang, IEEE Trans. Acoust., Speech, Signal Processing 27(1), 1979,
    doi:10.1109/TASSP.1979.1163188), by steps of many levels where their counts allow it. Each row
    of the window reaches from one of `starts` up to one of `stops`, columns from its left side.
    """
    # Windows have 201 x 201 samples at most, which 16 bits count.
    counts, sums = np.zeros(levels, np.uint16), np.zeros((levels >> _SHIFT) + 1, np.int32)
    half, width = (stops - starts).sum() // 2, out.shape[1]
    level = below = 0
    for y in range(out.shape[0]):
        for r in range(starts.size):
            for x in range(starts[r], stops[r]):
                below += _enter(counts, sums, padded[y + r, x], level)
        for x in range(width):
            level, below = _followed(counts, sums, half, level, below)
            out[y, x] = level
            for r in range(starts.size):
                row = padded[y + r]
                below -= _leave(counts, sums, row[x + starts[r]], level)
                if x + 1 < width:
                    below += _enter(counts, sums, row[x + stops[r]], level)
                else:  # the next row begins with an empty window
                    for k in range(x + starts[r] + 1, x + stops[r]):
                        below -= _leave(counts, sums, row[k], level)


@_compiled
def _enter(counts, sums, value, level):  # type: ignore[no-untyped-def]
    counts[value] += 1
    sums[value >> _SHIFT] += 1
    return int(value < level)


@_compiled
def _leave(counts, sums, value, level):  # type: ignore[no-untyped-def]
    counts[value] -= 1
    sums[value >> _SHIFT] -= 1
    return int(value < level)


@_compiled
def _followed(counts, sums, half, level, below):  # type: ignore[no-untyped-def]
    """The first level up to which more than half is counted, and the number below it."""
    step = 1 << _SHIFT
    while below > half:
        if level & (step - 1) == 0 and below - sums[(level >> _SHIFT) - 1] > half:
            level -= step
            below -= sums[level >> _SHIFT]
        else:
            level -= 1
            below -= counts[level]
    while below + counts[level] <= half:
        if level & (step - 1) == 0 and below + sums[level >> _SHIFT] <= half:
            below += sums[level >> _SHIFT]
            level += step
        else:
            below += counts[level]
            level += 1
    return level, below
