"""The gauge of blur that reads edges where they stand."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from magnetite.core.errors import PictureError
from magnetite.core.metrics.noise_level import noise_mask
from magnetite.core.metrics.sizes import check_size
from magnetite.core.picture import Pixels
from magnetite.core.registry import ColourPolicy, gauge

Array = NDArray[np.float64]

#: Least height of an edge, of full scale; and in sd of the picture's noise.
_LEAST, _NOISE_SDS = 0.1, 8.0
#: How far a rise may fall back, in sd of the noise, and how many px it may stand still.
_FALL, _REST = 2.0, 2


@gauge(
    "edge-width",
    summary="Mean 10-90 % rise of all clear edges, across them; less is sharper.",
    colour=ColourPolicy.LUMA,
    source="Marziliano, Dufaux, Winkler and Ebrahimi, Signal Processing: Image Communication "
    "19(2), 2004, doi:10.1016/j.image.2003.08.003, with the rise of ISO 12233",
    unit="px",
    values="0.8 and up",
    smallest="8x8",
)
def edge_width(pixels: Pixels, peak: float = 1.0) -> float:
    """Mean distance between 10 % and 90 % of the height of edges, times the cosine of their tilt.

    Along rows where the gradient is nearer to them, else along columns, an edge is the steepest
    step of a rise (or fall) between two turning points that is at least 10 % of full scale and 8
    sd of the noise (Immerkaer's mask) high. Where there is noise a rise may fall back by 2 sd.
    Levels are interpolated linearly between samples, so a step from one sample to the next has
    a rise of 0.8 px.

    Parameters
    ----------
    pixels : array, shape (h, w) or (h, w, 3); RGB is reduced to luma (BT.601)
    peak : float
        Full scale of the array.

    Returns
    -------
    float
        In px. Gaussian blur of sigma gives about 2.56 sigma at straight edges of even ground.

    Raises
    ------
    PictureError
        If the picture has no such edge or is smaller than 8x8.
    """
    check_size("edge-width", pixels, 8)
    plane = np.asarray(pixels / peak, np.float64)
    noise = noise_mask(plane) / 255
    least = max(_LEAST, _NOISE_SDS * noise)
    total, count = 0.0, 0
    for lines, ties in ((plane, True), (np.ascontiguousarray(plane.T), False)):
        found = _rises(lines, least, _FALL * noise, ties)
        total, count = total + found[0], count + found[1]
    if count == 0:
        raise PictureError(f"edge-width: no edge rises by {least:.0%} of full scale")
    return total / count


_compiled = numba.njit(nogil=True, cache=True, error_model="numpy")


@_compiled
def _rises(x: Array, least: float, fall: float, ties: bool) -> tuple[float, int]:
    """Sum of the widths of edges across rows, and their number."""
    height, width = x.shape
    total, count = 0.0, 0
    for i in range(1, height - 1):
        row = x[i]
        for j in range(1, width - 2):
            step = row[j + 1] - row[j]
            if step == 0 or abs(row[j] - row[j - 1]) > abs(step):
                continue
            if abs(row[j + 2] - row[j + 1]) >= abs(step):
                continue
            across = (x[i - 1, j + 1] - x[i - 1, j] + 2 * step + x[i + 1, j + 1] - x[i + 1, j]) / 4
            down = (x[i + 1, j] + x[i + 1, j + 1] - x[i - 1, j] - x[i - 1, j + 1]) / 4
            if (
                across * step <= 0
                or abs(down) > abs(across)
                or (abs(down) == abs(across) and not ties)
            ):
                continue
            sign = 1.0 if step > 0 else -1.0
            top = _turn(row, j + 1, 1, sign, fall)
            bottom = _turn(row, j, -1, -sign, fall)
            rise = sign * (row[top] - row[bottom])
            if rise < least or _steepest(row, bottom, top) > abs(step):
                continue
            low = _crossing(row, j, -1, row[bottom] + sign * 0.1 * rise, -sign)
            high = _crossing(row, j + 1, 1, row[bottom] + sign * 0.9 * rise, sign)
            total += (high - low) * abs(across) / np.hypot(across, down)
            count += 1
    return total, count


@_compiled
def _turn(row: Array, start: int, way: int, sign: float, fall: float) -> int:
    """Where the row, going that way, has come to its furthest before it turns back."""
    best, at = start, start + way
    while 0 <= at < row.size and at - best <= _REST and best - at <= _REST:
        gain = sign * (row[at] - row[best])
        if gain > 0:
            best = at
        elif gain < -fall or fall == 0:
            break
        at += way
    return best


@_compiled
def _steepest(row: Array, first: int, last: int) -> float:
    steepest = 0.0
    for j in range(first, last):
        steepest = max(steepest, abs(row[j + 1] - row[j]))
    return steepest


@_compiled
def _crossing(row: Array, start: int, way: int, level: float, sign: float) -> float:
    """Where the row first reaches a level on its way, between samples; the start lies before.

    The level may also lie between the start and the sample behind it.
    """
    at = start
    while sign * (row[at] - level) < 0:
        at += way
    behind = at - way
    place: float = at - way * (row[at] - level) / (row[at] - row[behind])
    return place
