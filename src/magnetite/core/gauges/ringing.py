"""Gauge of ripples and overshoots near edges."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from magnetite.core.arrays import Bools, Float64, Pixels
from magnetite.core.methods.catalogue import ColourPolicy, gauge
from magnetite.core.picture.least_size import check_size

#: Share of the samples whose slopes are those of edges, the least slope of an edge, dn of 8 bits
#: a px, and the sigma of the Gaussian behind slopes, px.
_SHARE, _LEAST_SLOPE, _SIGMA = 0.015, 1.0, 1.0
#: An edge across a row is this much steeper along it than across it.
_ACROSS = 1.5
#: Rows whose mean is a line, and steps of a line.
_ROWS, _STEPS = 5, 7
#: Distance from edges at which lines show the picture's own texture, px.
_FAR = 8
#: Variation that texture has at least, dn of 8 bits: rounding.
_ROUNDING = 0.3


class _Variations(NamedTuple):
    """Excess variations of lines next to edges, and far from edges, dn of 8 bits."""

    near: Float64
    far: Float64


@gauge(
    "ringing",
    summary="Ripples and overshoots near edges, against the picture's own texture.",
    colour=ColourPolicy.LUMA,
    source="own definition, on the region of Marziliano, Dufaux, Winkler and Ebrahimi, Signal "
    "Processing: Image Communication 19(2), 2004, doi:10.1016/j.image.2003.08.003",
    unit="dn",
    values="0 and up",
    smallest="24x24",
)
def ringing(pixels: Pixels, peak: float = 1.0) -> float:
    """`(B - T) sqrt(B / T) / 7`: excess variation near edges, B, and far from them, T, on luma.

    The excess variation of a line of 8 samples is the sum of its 7 absolute steps less the
    absolute difference of its ends: 0 wherever it only rises or only falls, whatever its blur.
    Lines are means of 5 rows (or columns), which noise hardly bends; those next to an edge begin at
    its steepest sample, on both sides. Edges are the steepest 1.5 % of the samples, so that blur
    does not change their number. T is the mean over lines that keep 8 px from edges.

    It grows with the ripples of a low-pass filter that cuts off, down to 0.25 cycles/px, with
    JPEG, JPEG 2000 and other transform codecs at lower rates, with overshoots of sharpening and
    with deblurring by too large a kernel. Gratings and lines near edges count, too. 0 where there
    are no edges, or edges everywhere. It compares versions of one picture.
    """
    check_size("ringing", pixels, 24)
    plane: Pixels = np.asarray(pixels, np.float64) * (255 / peak)
    across, down = _slopes(plane)
    slope = np.hypot(across, down)
    least = max(_LEAST_SLOPE, float(np.quantile(slope, 1 - _SHARE)))
    edges = slope >= least
    sides = [
        _variations(lines, edge & (one > _ACROSS * other), one, edge)
        for lines, edge, one, other in (
            (plane, edges, across, down),
            (plane.T, edges.T, down.T, across.T),
        )
    ]
    near, far = (np.concatenate(parts) for parts in zip(*sides, strict=True))
    if near.size == 0 or far.size == 0:
        return 0.0
    excess, texture = float(near.mean()), float(far.mean()) + _ROUNDING
    ripple = max(0.0, excess - texture) * math.sqrt(excess / texture) / _STEPS
    return ripple * peak / 255


def _slopes(plane: Pixels) -> tuple[Float64, Float64]:
    """Magnitudes of the derivatives along rows and along columns, after a Gaussian."""
    from scipy.ndimage import gaussian_filter

    smooth = gaussian_filter(plane, _SIGMA)
    down, across = np.gradient(smooth)
    return np.abs(across), np.abs(down)


def _variations(plane: Pixels, across: Bools, slope: Float64, edges: Bools) -> _Variations:
    """Excess variations of a plane's rows, next to the crests of edges and far from edges."""
    from scipy.ndimage import maximum_filter, uniform_filter1d

    excess = _excess(uniform_filter1d(plane, _ROWS, axis=0))
    crest = across.copy()
    crest[:, [0, -1]] = False
    crest[:, 1:-1] &= (slope[:, 1:-1] >= slope[:, :-2]) & (slope[:, 1:-1] > slope[:, 2:])
    row, column = np.nonzero(crest)
    right, left = column, column - _STEPS
    adjacent = [excess[row[ok], first[ok]]
              for first in (right, left)
              for ok in [(first >= 0) & (first < excess.shape[1])]]  # fmt: skip
    near = maximum_filter(edges, 2 * _FAR + 1)
    far = maximum_filter(near, (1, _STEPS + 1), origin=(0, -(_STEPS + 1) // 2))
    return _Variations(np.concatenate(adjacent), excess[~far[:, : excess.shape[1]]])


def _excess(lines: Pixels) -> Float64:
    """Sum of absolute steps less the absolute difference of the ends, from each sample on."""
    steps = np.abs(np.diff(lines, axis=1))
    reached = np.cumsum(np.pad(steps, ((0, 0), (1, 0))), axis=1)
    variation = reached[:, _STEPS:] - reached[:, :-_STEPS]
    return np.asarray((variation - np.abs(lines[:, _STEPS:] - lines[:, :-_STEPS])).clip(0))
