"""A decoder written from docs/mgt-format.md alone, in plain Python: slow, and independent."""

from __future__ import annotations

import math
import zlib
from collections.abc import Iterator
from itertools import chain

import numpy as np


class Container:
    """The header's fields and the sections."""

    def __init__(self, data: bytes) -> None:
        assert data[:5] == b"\x89MGT\x05"
        self._data, self._position = data, 7
        self.bits, self.colour = data[5], data[6]
        self.height, self.width, self.channels = (self._varint() for _ in range(3))
        self.step = self._take(self._varint()).decode()
        lengths = [self._varint() for _ in range(self._varint())]
        payload = self._take(4)
        before = data[: self._position]
        assert self._take(4) == zlib.crc32(before).to_bytes(4, "little")
        assert payload == zlib.crc32(data[self._position :]).to_bytes(4, "little")
        self.sections = [self._take(length) for length in lengths]
        assert self._position == len(data)

    def _take(self, count: int) -> bytes:
        self._position += count
        return self._data[self._position - count : self._position]

    def _varint(self) -> int:
        number = shift = 0
        while True:
            (byte,) = self._take(1)
            number |= (byte & 127) << shift
            shift += 7
            if byte < 128:
                return number


class Missing(Exception):
    """A byte of a section that was cut."""


def ends(cut: bool) -> Iterator[int]:
    """After the last byte: zeros, or none where a section was cut."""
    while not cut:
        yield 0
    raise Missing


class Decoder:
    """The range coder with its slots and mixers."""

    def __init__(self, data: bytes, *, cut: bool = False) -> None:
        self._bytes = chain(data, ends(cut))
        self._low, self._high, self._value = 0, 2**32 - 1, 0
        for _ in range(4):
            self._value = self._value << 8 | next(self._bytes)
        self.use(self.fresh())

    @staticmethod
    def fresh() -> tuple[dict[int, tuple[int, int]], dict[int, list[int]]]:
        """Slots and weights at first."""
        return {}, {}

    def use(self, context: tuple[dict[int, tuple[int, int]], dict[int, list[int]]]) -> None:
        self._slots, self._weights = context

    def _bit(self, p: int) -> int:
        reach = self._high - self._low
        middle = self._low + (reach >> 16) * p + (((reach & 0xFFFF) * p) >> 16)
        bit = int(self._value <= middle)
        if bit:
            self._high = middle
        else:
            self._low = middle + 1
        while self._low >> 24 == self._high >> 24:
            self._low = (self._low << 8) & 0xFFFFFFFF
            self._high = ((self._high << 8) & 0xFFFFFFFF) | 255
            self._value = ((self._value << 8) & 0xFFFFFFFF) | next(self._bytes)
        return bit

    def _probability(self, slot: int) -> int:
        return self._slots.get(slot, (2**21, 0))[0]

    def _learn(self, slot: int, bit: int, limit: int) -> None:
        p, n = self._slots.get(slot, (2**21, 0))
        pace = round(65536 / (n + 1.6))
        p = p + (((2**22 - 1 - p) * pace) >> 16) if bit else p - ((p * pace) >> 16)
        self._slots[slot] = p, min(n + 1, limit)

    def alone(self, slot: int) -> int:
        bit = self._bit(min(65500, max(36, self._probability(slot) >> 6)))
        self._learn(slot, bit, 255)
        return bit

    def mixed(self, slots: list[int], row: int, limit: int) -> int:
        weights = self._weights.setdefault(row, [17500] * 4)
        stretched = []
        for slot in slots:
            i = self._probability(slot) >> 10
            stretched.append(round(256 * math.log((i + 0.5) / (4095.5 - i))))
        total = sum(s * w for s, w in zip(stretched, weights, strict=True)) >> 16
        total = min(3071, max(-3071, total))
        p = min(65532, max(4, round(65536 / (1 + math.exp(-total / 256)))))
        bit = self._bit(p)
        for i, slot in enumerate(slots):
            weights[i] += (stretched[i] * (65536 * bit - p) * 14 + 2**19) >> 20
            self._learn(slot, bit, limit)
        return bit

    def gamma(self, first: int) -> int:
        bits = 0
        while bits < 31 and self.alone(first + bits):
            bits += 1
        value = 1
        for k in range(bits):
            value = 2 * value + self.alone(first + (48 if k else 32) + min(bits, 15))
        return value - 1


def kind(total: int) -> int:
    """The class of a sum."""
    for last, number in ((7, total), (8, 7), (10, 8), (13, 9), (17, 10), (23, 11), (35, 12),
                         (59, 13), (119, 14)):  # fmt: skip
        if total <= last:
            return number
    return 15


def blocks(data: bytes, shape: tuple[int, int, int, int]) -> np.ndarray:
    """Numbers in blocks."""
    rows, columns, h, w = shape
    coder, q = Decoder(data), np.zeros(shape, int)
    m = np.zeros((rows + 1, columns + 2, h + 3, w + 3), int)
    positions = sorted(np.ndindex(h, w), key=lambda p: (p[0] / h) ** 2 + (p[1] / w) ** 2)
    for i, j in np.ndindex(rows, columns):
        here, recent = m[i + 1, j + 1], 0
        n, west, nw, ne = m[i, j + 1], m[i + 1, j], m[i, j], m[i, j + 2]
        for k, (u, v) in enumerate(positions):
            y, x, f = u + 2, v + 2, (8 * u // h) * 8 + 8 * v // w
            inner = 2 * (here[y - 1, x] + here[y, x - 1]) + here[y - 1, x - 1]
            inner += here[y - 2, x] + here[y, x - 2]
            outer = 2 * (n[y, x] + west[y, x]) + nw[y, x] + ne[y, x]
            around = sum(
                z[y + a, x + b] for z in (n, west) for a, b in ((1, 0), (0, 1), (-1, 0), (0, -1))
            )
            a, b, d, e = (kind(int(t)) for t in (inner, outer, around, recent >> 2))
            s = kind(int(inner + outer + (around >> 1) + (recent >> 3)) >> 1)
            slots = [(16 * f + b) * 16 + min(a, 7), 16384 + 16 * f + a, 32768 + 16 * f + s,
                     49152 + (16 * f + e) * 8 + min(d, 7)]  # fmt: skip
            signs, long = 196608, 196608 + 585
            magnitude = 0
            while magnitude < 3:
                if magnitude == 0 and a + b + d == 0:
                    more = coder.alone(long + 4096 + (16 * f + e) * 2 + int(k == 0))
                else:
                    more = coder.mixed(
                        [65536 * magnitude + t for t in slots], magnitude * 64 + f, 400
                    )
                if not more:
                    break
                magnitude += 1
            if magnitude == 3:
                magnitude += coder.gamma(long + 64 * s)
            value = magnitude
            if magnitude:
                above, beside = (
                    1 + int(np.sign(q[r, c, u, v])) if r >= 0 and c >= 0 else 1
                    for r, c in ((i - 1, j), (i, j - 1))
                )
                if coder.alone(signs + 9 * (f if k else 64) + 3 * above + beside):
                    value = -magnitude
            q[i, j, u, v] = value + (predicted(q, i, j) if k == 0 else 0)
            here[y, x] = min(magnitude, 255)
            recent += (16 * min(magnitude, 255) - recent) >> 2
    return q


def predicted(q: np.ndarray, i: int, j: int) -> int:
    if i == 0 or j == 0:
        return int(q[i - 1, j, 0, 0] if i else q[i, j - 1, 0, 0] if j else 0)
    n, w, nw = (int(q[r, c, 0, 0]) for r, c in ((i - 1, j), (i, j - 1), (i - 1, j - 1)))
    if nw >= max(n, w):
        return min(n, w)
    return max(n, w) if nw <= min(n, w) else n + w - nw


def bits(data: bytes, shape: tuple[int, int], above: np.ndarray) -> np.ndarray:
    """A map of bits."""
    coder = Decoder(data)
    x, over = np.zeros((shape[0] + 2, shape[1] + 6), int), np.pad(above, ((0, 1), (0, 1)))
    for i, j in np.ndindex(*shape):
        y, p = i + 2, j + 3
        around = (x[y, p - 1], x[y, p - 2], x[y, p - 3], *x[y - 1, p - 2 : p + 2],
                  *x[y - 2, p - 1 : p + 2], over[i, j], over[i, j + 1], over[i + 1, j])  # fmt: skip
        x[y, p] = coder.alone(sum(int(bit) << k for k, bit in enumerate(around)))
    return x[2:, 3 : shape[1] + 3]


def stored(c: Container, planes: list[np.ndarray], *, luma: bool = True) -> np.ndarray:
    """Digital numbers of real planes, all less 0.5 but for the chroma ones of RGB."""
    if c.colour == 1 and luma:
        y, cb, cr = planes[0] + 0.5, *planes[1:]
        red, blue = y + 1.402 * cr, y + 1.772 * cb
        planes = [red, (y - 0.299 * red - 0.114 * blue) / 0.587, blue]
    else:
        planes = [plane + 0.5 for plane in planes]
    whole = np.dstack(planes) if c.colour else planes[0]
    return np.rint(whole * (2**c.bits - 1)).clip(0, 2**c.bits - 1)


def whole_colours(planes: list[np.ndarray]) -> list[np.ndarray]:
    """RGB from the reversible transform."""
    y, blue, red = planes
    green = y - ((blue + red) >> 2)
    return [red + green, green, blue + green]
