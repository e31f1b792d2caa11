"""Collaborative filtering of like blocks."""

from __future__ import annotations

from collections.abc import Iterator
from contextvars import copy_context
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np

from magnetite.core.arrays import Float32, Float64, Int64, Pixels
from magnetite.core.compute.basis import cosines
from magnetite.core.compute.sharing import shared
from magnetite.core.compute.threads import each
from magnetite.core.methods.catalogue import ColourPolicy, restoration
from magnetite.core.restore._block_size import BLOCK, REACH, STEP
from magnetite.core.restore._opponent import from_opponent, to_opponent
from magnetite.core.restore.kernels.noise_sd import NoiseSd, estimated

#: References along a side of the squares in which groups are processed, for locality of memory.
_TILE = 16
#: Rows of references that are matched together.
_GROUP = 3
#: sd, of 255, from which on the high-noise profile is taken.
_HIGH = 40.0
#: Rows worked on at a time: so few that their blocks have no more coefficients than this, but
#: no fewer than that, for the margins of a band are computed again in the next.
_COEFFICIENTS, _LEAST_ROWS = 2**22, 64


@dataclass(frozen=True)
class Profile:
    """Published parameters: sizes of groups, distances (per sample, of 255²) and threshold."""

    first_matches: int
    second_matches: int
    first_distance: float
    second_distance: float
    threshold: float
    #: Whether the first stage's blocks are transformed by biorthogonal wavelets or cosines.
    wavelet: bool


_PROFILES = {
    "normal": Profile(16, 32, 2500, 400, 2.7, True),
    "high-noise": Profile(16, 32, 5000, 3500, 2.8, False),
}


@restoration(
    "bm3d",
    summary="Collaborative filtering: like blocks stacked and shrunk together, in two stages.",
    removes="noise",
    colour=ColourPolicy.JOINT,
    source="Dabov, Foi, Katkovnik and Egiazarian, IEEE Trans. Image Processing 16(8), 2007, "
    "doi:10.1109/TIP.2007.901238",
    memory=560,
)
def bm3d(
    pixels: Pixels,
    *,
    sd: NoiseSd = None,
    stages: Annotated[Literal["both", "first"], "both stages, or the first alone"] = "both",
    profile: Annotated[
        Literal["auto", "normal", "high-noise"],
        "thresholds of distances and transforms, by the noise or as asked",
    ] = "auto",
) -> Pixels:
    """Stack similar blocks, transform the stack, shrink it, and average the inverse transforms.

    First stage: the 16 blocks of 8x8 most like each reference (every third px, up to 19 px away)
    are transformed together (biorthogonal 1.5 wavelet in the block, Haar across); coefficients
    below 2.7 sd become 0. Second stage: the 32 blocks most alike in that estimate; the noisy
    stack's coefficients (cosine in the block, Haar across) are multiplied by `b² / (b² + sd²)`, b
    those of the estimate. Overlapping blocks are averaged with a Kaiser window (beta 2) and
    weights that favour sparse groups. RGB is turned into opponent colours; like blocks are looked
    for in the first of them alone. Up to sd 40 of 255 similar blocks have a mean squared
    difference below 2500 and 400 (of 255²) in the two stages; above, or as asked, below 5000 and
    3500, and the first stage uses the cosine transform and 2.8 sd. Both use blocks of 8x8.
    Computed in float32.
    """
    sd = 255 * estimated(pixels, sd)
    if sd == 0:
        return pixels.copy()
    chosen = _PROFILES[("high-noise" if sd > _HIGH else "normal") if profile == "auto" else profile]
    noisy = shared(_padded_planes, pixels)
    matrix = biorthogonal() if chosen.wavelet else cosines(BLOCK)
    stage = _Stage(matrix, chosen.first_matches, chosen.first_distance, sd, chosen.threshold)
    result = stage.run(noisy, None)
    if stages == "both":
        stage = _Stage(cosines(BLOCK), chosen.second_matches, chosen.second_distance, sd, None)
        result = stage.run(noisy, result)
    height, width = pixels.shape[:2]
    cropped = [plane[:height, :width] / np.float32(255) for plane in result]
    return from_opponent(cropped, pixels)


def _padded_planes(pixels: Pixels) -> list[Float32]:
    """Opponent planes on the scale of 8 bits, of at least two blocks in height and width."""
    planes = [plane * np.float32(255) for plane in to_opponent(pixels)]
    smallest = (max(2 * BLOCK, planes[0].shape[0]), max(2 * BLOCK, planes[0].shape[1]))
    padding = [(0, least - side) for least, side in zip(smallest, planes[0].shape, strict=True)]
    return [np.pad(plane, padding, mode="symmetric") for plane in planes]


def biorthogonal() -> Float64:
    """Three levels of the periodic biorthogonal 1.5 wavelet, rows of unit length."""
    low = np.array([3, -3, -22, 22, 128, 128, 22, -22, -3, 3]) * np.sqrt(2) / 256
    matrix, size = np.eye(BLOCK), BLOCK
    while size > 1:
        level = np.zeros((size, size))
        for i in range(size // 2):
            for tap, weight in enumerate(low):
                level[i, (2 * i + tap - 4) % size] += weight
            level[size // 2 + i, 2 * i : 2 * i + 2] = -np.sqrt(0.5), np.sqrt(0.5)
        matrix[:size] = level @ matrix[:size]
        size //= 2
    return np.asarray(matrix / np.linalg.norm(matrix, axis=1, keepdims=True))


@dataclass(frozen=True)
class _Stage:
    """One stage: the blocks' transform, how many are stacked and how far they may be."""

    matrix: Float64
    matches: int
    distance: float
    sd: float
    #: In sd; None for the Wiener stage.
    threshold: float | None

    def run(self, noisy: list[Float32], basic: list[Float32] | None) -> list[Float32]:
        """The estimate of each plane; like blocks are those of the first."""
        height, width = noisy[0].shape
        tops = sorted({*range(0, height - BLOCK + 1, STEP), height - BLOCK})
        rows = max(_LEAST_ROWS, min(_COEFFICIENTS // (64 * width), -(-height // 2)))
        count = -(-len(tops) * STEP // rows)
        count += count % 2 if count > 1 else 0  # for two threads
        bands = [tops[i * len(tops) // count : (i + 1) * len(tops) // count] for i in range(count)]
        totals = [np.zeros((2, height, width), np.float32) for _ in noisy]
        # Bands overlap: they are computed side by side, and added up in their order.
        jobs = [(band, copy_context()) for band in bands]
        for first, sums in each(lambda job: job[1].run(self._band, job[0], noisy, basic), jobs):
            for total, added in zip(totals, sums, strict=True):
                total[:, first : first + added.shape[1]] += added
        return [total[0] / total[1] for total in totals]

    def _band(
        self, tops: list[int], noisy: list[Float32], basic: list[Float32] | None
    ) -> tuple[int, list[Float32]]:
        """First row, and for each plane the weighted samples and the weights from there on."""
        from magnetite.core.restore.kernels.blocks import back

        height, width = noisy[0].shape
        first, last = max(0, tops[0] - REACH), min(height - BLOCK, tops[-1] + REACH)
        if basic is None:  # blocks that are alike do not depend on the sd, which may be tuned
            keys = shared(
                _matches, noisy[0], tops=tuple(tops), most=self.matches, distance=self.distance
            )
        else:
            keys = _matches(basic[0], tuple(tops), self.matches, self.distance)
        window = np.kaiser(BLOCK, 2.0)
        inverse = (window[:, np.newaxis] * np.linalg.inv(self.matrix)).astype(np.float32)
        sums = []
        for number, plane in enumerate(noisy):
            guide = None if basic is None else basic[number]
            shrunk, weight = self._shrunk(plane, guide, keys, first, last)
            added = np.zeros((2, last - first + BLOCK, width), np.float32)
            back(shrunk, inverse, added[0])
            added[1] = _windowed(_windowed(weight, window).T, window).T
            sums.append(added)
        return first, sums

    def _shrunk(
        self, plane: Float32, guide: Float32 | None, keys: list[Int64], first: int, last: int
    ) -> tuple[Float32, Float32]:
        """Weighted sums of shrunk coefficients of every block, and of their weights."""
        from magnetite.core.restore.kernels.blocks import transform
        from magnetite.core.restore.kernels.groups import threshold_groups, wiener_groups

        matrix = self.matrix.astype(np.float32)
        width = plane.shape[1]
        shape = (last - first + 1, width - BLOCK + 1)
        noisy = np.empty((*shape, BLOCK**2), np.float32)
        transform(plane, first, matrix, noisy)
        shrunk, weight = np.zeros_like(noisy), np.zeros(shape, np.float32)
        basic = None
        if guide is not None:
            basic = np.empty_like(noisy)
            transform(guide, first, matrix, basic)
        variance, threshold = np.float32(self.sd**2), np.float32((self.threshold or 0) * self.sd)
        for part in _tiles(keys):
            if basic is None:
                threshold_groups(part, noisy, first, width, threshold, shrunk, weight)
            else:
                wiener_groups(part, noisy, basic, first, width, variance, shrunk, weight)
        return shrunk, weight


def _alike(tops: list[int]) -> Iterator[list[int]]:
    """Rows of references in groups of up to three that are a step apart."""
    group = tops[:1]
    for top in tops[1:]:
        if len(group) == _GROUP or top != group[-1] + STEP:
            yield group
            group = []
        group.append(top)
    yield group


def _windowed(weights: Float32, window: Float64) -> Float32:
    """Sums over the eight columns before, times the window."""
    out = np.zeros((weights.shape[0], weights.shape[1] + BLOCK - 1), np.float32)
    for position, factor in enumerate(window):
        out[:, position : position + weights.shape[1]] += weights * np.float32(factor)
    return out


def _tiles(keys: list[Int64]) -> Iterator[Int64]:
    """The references in an order of good locality."""
    for top in range(0, len(keys), _TILE):
        for left in range(0, keys[0].shape[0], _TILE):
            for row in keys[top : top + _TILE]:
                yield row[left : left + _TILE]


def _matches(plane: Float32, tops: tuple[int, ...], most: int, distance: float) -> list[Int64]:
    """Positions of the blocks that are like each reference block of some rows."""
    from magnetite.core.restore.kernels.matching import match_rows, spread

    wide, width = spread(plane), plane.shape[1]
    count = len({*range(0, width - BLOCK + 1, STEP), width - BLOCK})
    farthest = np.float32(distance * BLOCK**2)
    keys = []
    for group in _alike(list(tops)):
        found = np.empty((len(group), count, most), np.int64)
        match_rows(wide, width, group[0], len(group), REACH, farthest, found)
        keys += list(found)
    return keys
