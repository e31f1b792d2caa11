"""Group frames by scene and exposure, from the noise that they show themselves."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from magnetite.core.arrays import Float32, Float64
from magnetite.core.errors import PictureError
from magnetite.core.picture import Picture

#: Tiles a side, and samples a side that are looked at.
_GRID, _SAMPLES = 12, 500
#: Means belong together within this many standard errors of their noise, or within this share of
#: the signal: lamps flicker, and the mean of each frame is subtracted afterwards.
_ERRORS, _FLICKER = 6.0, 0.01


@dataclass(frozen=True)
class _Seen:
    """A part of a frame's samples, dn above black, and the means of its tiles."""

    samples: Float32
    tiles: Float64


def grouped(frames: Sequence[Picture], black: float = 0.0) -> list[list[Picture]]:
    """Frames of one scene and exposure together, the darkest first, in whatever order they come.

    Two frames belong together if the means of their tiles differ by no more than the noise of
    these means explains, as seen in the difference of both frames, or by 1 % of the signal.

    Raises
    ------
    PictureError
        If frames differ in size or depth, two are identical, or one has no partner.
    """
    _check_alike(frames)
    ordered = sorted(frames, key=lambda frame: frame.digest())
    for one, two in itertools.pairwise(ordered):
        if one.same_samples(two):
            raise PictureError(
                f"{one.origin} and {two.origin} are identical: give frames that were taken one "
                "after the other"
            )
    seen = [_seen(frame, black) for frame in ordered]
    first = list(range(len(ordered)))
    for k in range(len(ordered)):
        for j in range(k):
            if first[j] != first[k] and _alike(seen[j], seen[k]):
                first = [first[j] if group == first[k] else group for group in first]
    groups = [
        [frame for frame, own in zip(ordered, first, strict=True) if own == group]
        for group in dict.fromkeys(first)
    ]
    alone = [members[0].origin for members in groups if len(members) == 1]
    if alone:
        raise PictureError(
            f"no other frame shows the same as {', '.join(sorted(alone))}: give two or more of "
            "each scene or level, from a camera that does not move"
        )
    means = {id(frame): float(one.tiles.mean()) for frame, one in zip(ordered, seen, strict=True)}
    return sorted(groups, key=lambda members: (means[id(members[0])], members[0].digest()))


def _check_alike(frames: Sequence[Picture]) -> None:
    first = frames[0]
    for frame in frames[1:]:
        if (frame.samples.shape, frame.bits) != (first.samples.shape, first.bits):
            raise PictureError(
                f"the frames differ: {first.origin} is {first.describe()}, "
                f"{frame.origin} is {frame.describe()}"
            )


def _seen(frame: Picture, black: float) -> _Seen:
    down, across = max(1, frame.height // _SAMPLES), max(1, frame.width // _SAMPLES)
    samples = frame.samples.reshape(frame.height, frame.width, -1)[::down, ::across]
    above = samples.astype(np.float32) - np.float32(black)
    return _Seen(above, _tile_means(above))


def _tile_means(samples: Float32) -> Float64:
    rows, columns = (np.array_split(np.arange(n), min(_GRID, n)) for n in samples.shape[:2])
    bands = np.add.reduceat(samples, [int(r[0]) for r in rows], axis=0, dtype=np.float64)
    sums = np.add.reduceat(bands, [int(c[0]) for c in columns], axis=1)
    sizes = np.outer([r.size for r in rows], [c.size for c in columns])
    return np.asarray(sums / sizes[..., np.newaxis])


def _alike(one: _Seen, two: _Seen) -> bool:
    apart = one.tiles - two.tiles
    level = (one.tiles + two.tiles) / 2
    near = _FLICKER * np.abs(level)
    if (np.abs(apart) <= near).all():
        return True
    difference = one.samples - two.samples
    difference = difference - np.median(difference)
    noise = float(np.abs(difference).mean()) * math.sqrt(math.pi / 2)
    noise = max(noise, 0.5)  # rounded samples may be equal for the most part
    rows = float(difference.mean(axis=(1, 2)).std())
    side = min(_GRID, one.samples.shape[0])
    error = max(noise / math.sqrt(one.samples.size), rows / math.sqrt(one.samples.shape[0]))
    of_tile = max(noise * math.sqrt(one.tiles.size / one.samples.size),
                  rows * math.sqrt(side / one.samples.shape[0]))  # fmt: skip
    together = abs(float(apart.mean())) <= max(_ERRORS * error, float(near.mean()))
    return together and bool((np.abs(apart) <= np.maximum(_ERRORS * of_tile, near)).all())
