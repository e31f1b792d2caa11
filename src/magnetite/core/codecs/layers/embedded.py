"""Embedded layer: bands of wavelets to one section that can be cut anywhere, and back.

Bit planes come most significant first; within each the planes of the picture, and of each the
bands from coarse to fine. A large picture is coded in two halves, upper and lower, each with a
coder of its own, on two threads; their bytes take turns, bit plane by bit plane.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any, NamedTuple

import numpy as np

from magnetite.core.arrays import Int32
from magnetite.core.codecs.layers.lifting import band_shapes
from magnetite.core.codecs.layers.pipeline import ByteCount, Section
from magnetite.core.codecs.layers.smoothing import Coded, checked_strength
from magnetite.core.compute.threads import spread
from magnetite.core.errors import StreamError

#: Bands of one plane, from coarse to fine: [[LL], [HL, LH, HH], …].
Bands = list[list[Int32]]
#: The same, with for each number the bit plane down to which it is known; None where all are whole.
Known = list[list[tuple[Int32, Int32 | None]]]

#: From this many pixels on the picture is coded in two halves.
WORTH_HALVING = 2**20
_ENDLESS = 2**62


@dataclass(frozen=True)
class Embedded:
    """Whole numbers of wavelet bands, coded bit plane by bit plane.

    `names`, `shapes` are name, height and width of each plane, `levels` how often they were halved.
    """

    names: Sequence[str]
    shapes: Sequence[tuple[int, int]]
    levels: int

    def forward(self, planes: list[Coded]) -> list[Section]:
        """One section: the number of bit planes, how each plane is smoothed, and the turns.

        The lengths of all turns come first. A picture in one part takes a single turn.
        """
        parts = self._parts([plane.numbers for plane in planes])
        top = max(_top(part) for part in parts)
        coded = spread(lambda part: _encoded(part, top, self._labels()), parts)
        turns = [turn for pair in zip(*coded, strict=True) for turn in pair]
        runs = [run for turn in turns for run in turn.runs]
        if len(parts) == 1:
            turns = [_Turn(b"".join(turn.data for turn in turns), [])]
        head = bytes([top, *(plane.strength for plane in planes)])
        head += b"".join(len(turn.data).to_bytes(4, "little") for turn in turns)
        data = head + b"".join(turn.data for turn in turns)
        return [Section("bit planes", data, [ByteCount("lengths", len(head)), *runs])]

    def _labels(self) -> list[list[str]]:
        """Names of the bands of each plane, level by level."""
        levels = ["low band", *(f"level {level}" for level in range(self.levels, 0, -1))]
        return [
            [f"{name} {level}" if len(self.names) > 1 else level for level in levels]
            for name in self.names
        ]

    def backward(self, sections: Sequence[bytes]) -> list[Coded]:
        """Numbers as far as the bytes reach; those of a cut section are known less exactly."""
        if len(sections) != 1:
            raise StreamError(f"1 section is expected, {len(sections)} are there")
        data = sections[0]
        empty: list[Bands] = [
            [
                [np.zeros(shape, np.int32) for shape in level]
                for level in band_shapes(*s, self.levels)
            ]
            for s in self.shapes
        ]
        parts = self._parts(empty)
        count = 1 + len(self.shapes)
        (top, *strengths), rest = data[:count].ljust(count, b"\0"), data[count:]
        if top > 30:
            raise StreamError(f"the compressed data declare {top} bit planes, at most 30 are read")
        streams = _taken_turns(rest, len(parts), top if len(parts) > 1 else 1)
        jobs = zip(parts, streams, strict=True)
        known = spread(lambda job: _decoded(job[0], job[1][0], job[1][1], top), jobs)
        return [
            Coded(checked_strength(strength), _joined([part[i] for part in known]))
            for i, strength in enumerate(strengths)
        ]

    def _parts(self, planes: list[Bands]) -> list[list[Bands]]:
        """The picture's bands, or those of its upper and lower half."""
        height, width = self.shapes[0]
        unit = 2 ** (self.levels + 1)
        if height * width < WORTH_HALVING or height < 4 * unit:
            return [planes]
        halves: list[list[Bands]] = [[], []]
        for bands, (rows, _) in zip(planes, self.shapes, strict=True):
            cut = rows // (2 * unit) * unit
            for half, upper in zip(halves, (True, False), strict=True):
                split: Bands = []
                for number, level in enumerate(bands):
                    at = cut >> (self.levels - max(0, number - 1))
                    split.append([band[:at] if upper else band[at:] for band in level])
                half.append(split)
        return halves


def _taken_turns(data: bytes, count: int, turns: int) -> list[tuple[bytes, bool]]:
    """The interleaved streams, and whether each is whole; of a cut section the part present."""
    head = 4 * count * turns
    if len(data) < head:
        return [(b"", False)] * count
    lengths = np.frombuffer(data[:head], "<u4").astype(np.int64)
    ends = (np.concatenate([[0], np.cumsum(lengths)]) + head).tolist()
    if len(data) > ends[-1]:
        raise StreamError("the compressed data run on")
    pieces = [data[a:b] for a, b in pairwise(ends)]
    streams = [b"".join(pieces[k::count]) for k in range(count)]
    return [(streams[k], len(streams[k]) == int(lengths[k::count].sum())) for k in range(count)]


def _top(planes: list[Bands]) -> int:
    largest = max(int(np.abs(b).max(initial=0)) for p in planes for level in p for b in level)
    return largest.bit_length()


class _Turn(NamedTuple):
    """Bytes of one bit plane of one part, and the bands that they code."""

    data: bytes
    runs: list[ByteCount]


def _encoded(planes: list[Bands], top: int, labels: list[list[str]]) -> list[_Turn]:
    """One part, a turn for each bit plane; of no bit planes, none."""
    from magnetite.core.codecs.entropy.coder import NEXT, close_encoder, new_coder

    size = sum(b.size for p in planes for level in p for b in level) + 4096
    while True:
        coder, data = new_coder(False, size), np.empty(size, np.uint8)
        maps = _maps(planes)
        models = [_model() for _ in planes]
        stops: list[list[tuple[str, int]]] = []  # of each bit plane: band, and where it ends
        for plane in range(top - 1, -1, -1):
            stops.append([])
            for part, model, names in zip(maps, models, labels, strict=True):
                for level, name in enumerate(names):
                    _code_level(coder, data, part, level, plane, _ENDLESS, model)
                    stops[-1].append((name, int(coder[NEXT])))
        length = close_encoder(coder, data)
        if length <= size:
            return _turns(data[:length].tobytes(), stops)
        size = length + 16


def _turns(data: bytes, stops: list[list[tuple[str, int]]]) -> list[_Turn]:
    """The bytes by bit plane; the last includes the coder's final bytes."""
    if stops:
        stops[-1][-1] = (stops[-1][-1][0], len(data))
    turns, start = [], 0
    for bands in stops:
        first, runs = start, []
        for name, stop in bands:
            runs.append(ByteCount(name, stop - start))
            start = stop
        turns.append(_Turn(data[first:start], runs))
    return turns


def _decoded(planes: list[Bands], data: bytes, whole: bool, top: int) -> list[Known]:
    """Numbers of one part, as far as its bytes reach."""
    from magnetite.core.codecs.entropy.coder import new_coder, open_decoder

    coder, array = new_coder(True, len(data)), np.frombuffer(data, np.uint8).copy()
    open_decoder(coder, array)
    maps = _maps(planes)
    models = [_model() for _ in planes]
    # After the end of a whole stream the decoder takes in three zeros, of a cut one none.
    stop = len(data) + 3 if whole else len(data)
    for plane in range(top - 1, -1, -1):
        for part, model in zip(maps, models, strict=True):
            for level in range(len(part)):
                if not _code_level(coder, array, part, level, plane, stop, model):
                    return [_numbers(part) for part in maps]
    return [[[(_signed(band), None) for band in level] for level in part] for part in maps]


def _model() -> tuple[Any, Any]:
    from magnetite.core.codecs.entropy import planes_model
    from magnetite.core.codecs.entropy.coder import new_slots, new_weights

    return (new_slots(planes_model.SLOTS), new_weights(planes_model.SETS))


def _maps(planes: list[Bands]) -> list[list[list[Any]]]:
    from magnetite.core.codecs.entropy.planes_model import band_of

    return [[[band_of(band) for band in level] for level in bands] for bands in planes]


def _code_level(
    coder: Any,
    data: Any,
    bands: list[list[Any]],
    number: int,
    plane: int,
    stop: int,
    model: tuple[Any, Any],
) -> bool:
    """One bit plane of the bands of one level; whether the bytes sufficed."""
    from magnetite.core.codecs.entropy.planes_model import code_plane

    level = bands[number]
    for orientation, band in enumerate(level):
        parent = bands[number - 1][orientation].known if number > 1 else _nothing(band, 2)
        sibling = level[orientation - 1].known if orientation else _nothing(band, 1)
        kind, depth = orientation if number else 3, len(bands) - 1 - number
        whole = code_plane(
            coder, data, band, parent, sibling, plane, kind, depth, stop, *model
        )  # fmt: skip
        if not whole:
            return False
    return True


def _nothing(band: Any, factor: int) -> Int32:
    """Zeros in place of a band of the same size, or of half of it."""
    height, width = (side // factor + 4 for side in band.known.shape)
    return np.zeros((height, width), np.int32)


def _numbers(bands: list[list[Any]]) -> Known:
    """Signed magnitudes in units of the bit plane down to which each is known, and that plane."""
    found: Known = []
    for level in bands:
        pairs: list[tuple[Int32, Int32 | None]] = []
        for band in level:
            numbers = _signed(band)
            reached = np.minimum(band.planes, 30).repeat(8, axis=0).repeat(8, axis=1)
            pairs.append((numbers, reached[: numbers.shape[0], : numbers.shape[1]]))
        found.append(pairs)
    return found


def _signed(band: Any) -> Int32:
    """The magnitudes of a band with their signs."""
    return np.asarray(band.known[2:-2, 2:-2] * band.signs[2:-2, 2:-2])


def _joined(parts: list[Known]) -> Known:
    """Upper and lower half put together."""
    if len(parts) == 1:
        return parts[0]
    return [
        [
            (np.concatenate([a[0], b[0]]), _planes_joined(a, b))
            for a, b in zip(upper, lower, strict=True)
        ]
        for upper, lower in zip(*parts, strict=True)
    ]


def _planes_joined(
    upper: tuple[Int32, Int32 | None], lower: tuple[Int32, Int32 | None]
) -> Int32 | None:
    if upper[1] is None and lower[1] is None:
        return None
    return np.concatenate(
        [np.zeros_like(numbers) if planes is None else planes for numbers, planes in (upper, lower)]
    )
