"""Metrics of edges."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np

from magnetite.core.arrays import Float64, Mask, Pixels
from magnetite.core.methods.catalogue import ColourPolicy, metric
from magnetite.core.methods.parameters import Number
from magnetite.core.metrics.kernels.moments import halved, windows_inside
from magnetite.core.picture.least_size import check_size


@metric(
    "gmsd",
    summary="Gradient magnitude similarity deviation: how unevenly edges were changed.",
    colour=ColourPolicy.LUMA,
    source="Xue, Zhang, Mou and Bovik, IEEE Trans. Image Processing 23(2), 2014, "
    "doi:10.1109/TIP.2013.2293423",
    unit="",
    values="0 to 0.5",
    better="lower",
    identical=0.0,
    smallest="6x6",
    mask="windows",
)
def gmsd(
    reference: Pixels,
    test: Pixels,
    peak: float = 1.0,
    within: Mask = None,
    *,
    c: Annotated[
        float, Number(0.001, 10_000), "stabilising constant on the scale of 8 bits (full scale 255)"
    ] = 170.0,
) -> float:
    """Population sd of `(2 gx gy + c) / (gx² + gy² + c)`, on luma.

    gx and gy are the gradient magnitudes of both pictures by Prewitt's kernels (thirds) over the
    samples where they fit, after 2x2 samples have become their mean. Of a mask, only positions
    whose 6x6 samples are wholly inside count. The largest values are about 0.5.
    """
    values = gmsd_map(reference, test, peak, c)
    if within is not None:  # a value reads the 6x6 samples from twice its position on
        values = values[windows_inside(within, 6)[::2, ::2]]
    return float(values.std())


def gmsd_map(reference: Pixels, test: Pixels, peak: float = 1.0, c: float = 170.0) -> Float64:
    """Gradient magnitude similarity of two planes, shape about (h / 2, w / 2), 0 to 1."""
    check_size("gmsd", reference, 6)
    one, two = (_prewitt(halved(plane) * (255 / peak)) for plane in (reference, test))
    return np.asarray((2 * one * two + c) / (one * one + two * two + c))


def _prewitt(plane: Pixels) -> Float64:
    """Gradient magnitude over the inner samples."""
    columns = plane[:-2] + plane[1:-1] + plane[2:]
    rows = plane[:, :-2] + plane[:, 1:-1] + plane[:, 2:]
    return np.hypot(columns[:, 2:] - columns[:, :-2], rows[2:] - rows[:-2]) / 3


@metric(
    "edge-preservation",
    summary="Correlation of both pictures' Laplacians: 1 where edges are kept.",
    colour=ColourPolicy.LUMA,
    source="Sattar, Floreby, Salomonsson and Lovstrom, IEEE Trans. Image Processing 6(6), 1997, "
    "doi:10.1109/83.585239",
    unit="",
    values="−1 to 1",
    better="higher",
    identical=1.0,
    smallest="3x3",
)
def edge_preservation(reference: Pixels, test: Pixels) -> float:
    """Correlation coefficient of the four-neighbour Laplacians over the inner samples, on luma.

    1 where neither picture has edges, 0 where only one has.
    """
    check_size("edge-preservation", reference, 3)
    if np.array_equal(reference, test):
        return 1.0
    one, two = (laplacian(plane) for plane in (reference, test))
    one, two = one - one.mean(), two - two.mean()
    powers = float(np.vdot(one, one)), float(np.vdot(two, two))
    if min(powers) == 0:
        return 1.0 if max(powers) == 0 else 0.0
    return float(np.vdot(one, two)) / math.sqrt(powers[0] * powers[1])


def laplacian(plane: Pixels) -> Float64:
    """`up + down + left + right - 4 centre` over the inner samples, shape (h - 2, w - 2)."""
    neighbours = plane[:-2, 1:-1] + plane[2:, 1:-1] + plane[1:-1, :-2] + plane[1:-1, 2:]
    return np.asarray(neighbours - 4 * plane[1:-1, 1:-1])
