"""Smoothing by like patches."""

from __future__ import annotations

from typing import Annotated

import numpy as np

from magnetite.core.arrays import Pixels
from magnetite.core.compute.threads import each
from magnetite.core.methods.catalogue import ColourPolicy, restoration
from magnetite.core.methods.parameters import Count, Number
from magnetite.core.restore._planes import mirrored, rows_of, to_picture, to_planes
from magnetite.core.restore.kernels.noise_sd import NoiseSd, estimated


@restoration(
    "nl-means",
    summary="Mean of all samples around, weighted by how alike their patches are.",
    removes="noise",
    colour=ColourPolicy.JOINT,
    source="Buades, Coll and Morel, Multiscale Modeling and Simulation 4(2), 2005, "
    "doi:10.1137/040616024",
    reach=lambda *, patch, search, **_: patch // 2 + search // 2,
    statistics=lambda *, sd, **_: sd is None,
)
def nl_means(
    pixels: Pixels,
    *,
    sd: NoiseSd = None,
    strength: Annotated[float, Number(0.01, 10), "decay of the weights, in sd"] = 0.6,
    patch: Annotated[int, Count(1, 31, odd=True), "side of the patches, px"] = 7,
    search: Annotated[int, Count(1, 101, odd=True), "side of the search window, px"] = 21,
) -> Pixels:
    """`Σ w x / Σ w`, `w = exp(-max(0, d - 2 sd²) / (strength sd)²)`.

    d is the mean squared difference of the patches around both samples, over all channels; the sum
    goes over a square window. Mirrored at the edges; computed in float32, weights within 0.03 %.
    """
    from magnetite.core.restore.kernels.means import means_band

    sd = estimated(pixels, sd)
    if sd == 0:
        return pixels.copy()
    planes = to_planes(pixels)
    channels, _, width = planes.shape
    radius, reach = patch // 2, search // 2
    padded = mirrored(planes, radius + reach)
    count = channels * patch**2
    offset = np.float32(2 * sd**2 * count)
    scale = np.float32(1 / ((strength * sd) ** 2 * count))
    near = np.ones((search, search), np.float32)
    result = np.empty_like(planes)

    def band(rows: slice) -> None:
        total = np.zeros((channels, rows.stop - rows.start, width), np.float32)
        weight = np.zeros(total.shape[1:], np.float32)
        means_band(padded, width, rows.start, radius, near, offset, scale, total, weight)
        result[:, rows] = total / weight

    each(band, rows_of(planes))
    return to_picture(result, pixels)
