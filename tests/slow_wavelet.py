"""Bands of `wavelet` decoded as docs/mgt-format.md says, in plain Python."""

from __future__ import annotations

from contextlib import suppress

import numpy as np

from slow_dct import smoothed
from slow_decoder import Container, Decoder, Missing, kind, stored, whole_colours

REFINE = 65536
SIGN = REFINE + 16384
WAKE = SIGN + 128
QUIET = WAKE + 2048
#: Coefficients of the lifting steps of 9/7 (ISO/IEC 15444-1 annex F), the last ones first.
LIFTING = (
    (0.443506852043971, 0.882911075530934), (-0.052980118572961, -1.586134342059924),
)  # fmt: skip


class Band:
    """One band: magnitudes with a margin of 2, signs, and which blocks hold something."""

    def __init__(self, height: int, width: int) -> None:
        self.size = height, width
        self.known = np.zeros((height + 4, width + 4), int)
        self.signs = np.zeros((height + 4, width + 4), int)
        self.alive = np.zeros((-(-height // 8) + 2, -(-width // 8) + 2), int)
        #: The plane to which the magnitudes of each block are known.
        self.plane = np.full((-(-height // 8), -(-width // 8)), 31)

    def back_to(self, plane: int) -> None:
        """Blocks that a plane has not reached are known to the one before."""
        for i, j in np.ndindex(self.size):
            if self.plane[i // 8, j // 8] != plane:
                self.known[i + 2, j + 2] //= 2

    def numbers(self) -> np.ndarray:
        """Signed magnitudes in units of the band's step."""
        n = self.known[2:-2, 2:-2]
        unit = 2.0 ** np.kron(self.plane, np.ones((8, 8)))[: self.size[0], : self.size[1]]
        share = np.where(n == 1, 0.42, 0.48)
        return np.where(n, n * unit + share * (unit - 1), 0) * self.signs[2:-2, 2:-2]


def sizes(height: int, width: int, levels: int) -> list[list[tuple[int, int]]]:
    found = []
    for _ in range(levels):
        r, c = (height + 1) // 2, (width + 1) // 2
        found.append([(r, width - c), (height - r, c), (height - r, width - c)])
        height, width = r, c
    return [[(height, width)], *found[::-1]]


def bit_plane(coder: Decoder, bands: list[list[Band]], plane: int) -> None:
    for number, level in enumerate(bands):
        finer = len(bands) - 1 - number
        for orientation, band in enumerate(level):
            parent = bands[number - 1][orientation].known if number > 1 else np.zeros((4, 4), int)
            sibling = np.zeros_like(band.known)
            if orientation:
                other = level[orientation - 1].known[2:-2, 2:-2]
                rows, columns = (min(a, b) for a, b in zip(other.shape, band.size, strict=True))
                sibling[2 : rows + 2, 2 : columns + 2] = other[:rows, :columns]
            band.known *= 2
            o = orientation if number else 3
            try:
                for bi, bj in np.ndindex(band.plane.shape):
                    if wakes(coder, band, parent, bi, bj, o, finer):
                        block(coder, band, parent, sibling, bi, bj, plane, o, finer)
                    band.plane[bi, bj] = plane
            except Missing:
                band.back_to(plane)
                raise


def at(plane: np.ndarray, y: int, x: int) -> int:
    """A magnitude, 0 outside the map."""
    inside = 0 <= y < plane.shape[0] and 0 <= x < plane.shape[1]
    return int(plane[y, x]) if inside else 0


def wakes(
    coder: Decoder, band: Band, parent: np.ndarray, bi: int, bj: int, o: int, finer: int
) -> bool:
    alive = band.alive
    if not alive[bi + 1, bj + 1]:
        beside = (
            alive[bi, bj + 1] + alive[bi + 1, bj] + alive[bi + 2, bj + 1] + alive[bi + 1, bj + 2]
        )
        corners = alive[bi, bj] + alive[bi, bj + 2] + alive[bi + 2, bj] + alive[bi + 2, bj + 2]
        total = sum(
            min(4, at(parent[2:-2, 2:-2], 4 * bi + i, 4 * bj + j)) for i, j in np.ndindex(4, 4)
        )
        parents = 0 if total == 0 else 1 if total < 4 else 2 if total < 16 else 3
        position = (3 * int(beside) + min(2, int(corners))) * 4 + parents
        alive[bi + 1, bj + 1] = coder.alone(WAKE + (8 * o + min(7, finer)) * 64 + position)
    return bool(alive[bi + 1, bj + 1])


def block(
    coder: Decoder, band: Band, parent: np.ndarray, sibling: np.ndarray,
    bi: int, bj: int, plane: int, o: int, finer: int,
) -> None:  # fmt: skip
    height, width = band.size
    k, deep = band.known, min(7, finer)
    for i in range(8 * bi, min(height, 8 * bi + 8)):
        for j in range(8 * bj, min(width, 8 * bj + 8)):
            y, x = i + 2, j + 2
            side, post = int(k[y, x - 1] + k[y, x + 1]), int(k[y - 1, x] + k[y + 1, x])
            up, across = i // 2 + 2, j // 2 + 2
            above = 2 * at(parent, up, across) + sum(
                at(parent, up + a, across + b) for a, b in ((-1, 0), (1, 0), (0, -1), (0, 1))
            )
            corners = int(sum(k[y + a, x + b] for a in (-1, 1) for b in (-1, 1)))
            if k[y, x]:
                around = kind((2 * (side + post) + corners + above) >> 3)
                m, n = min(3, int(k[y, x]) >> 1), kind((side + post) >> 1)
                slots = [REFINE + (16 * m + n) * 16 + kind(above >> 1),
                         REFINE + 4096 + 64 * (8 * o + deep) + 16 * m + n,
                         REFINE + 8192 + (16 * m + min(15, plane)) * 16 + n,
                         REFINE + 12288 + (16 * m + kind(corners >> 1)) * 16 + around]  # fmt: skip
                k[y, x] += coder.mixed(slots, 64 + 12 * m + min(11, n), 500)
                continue
            beyond = int(k[y - 2, x] + k[y + 2, x] + k[y, x - 2] + k[y, x + 2])
            near, kin = 2 * (side + post) + corners, int(sibling[y, x])
            if near + above + beyond + kin == 0:
                bit = coder.alone(QUIET + (8 * o + deep) * 16 + min(15, plane))
            else:
                s = kind((2 * near + above + beyond + kin) >> 2)
                ring = (8 * min(7, kind(side)) + min(7, kind(post))) * 8 + min(7, kind(corners))
                n, p = kind(near), kind(above)
                slots = [512 * o + ring, 16384 + (16 * n + kind(beyond)) * 16 + p,
                         32768 + ((16 * o + kind(kin)) * 16 + n) * 4 + min(3, p),
                         49152 + ((8 * o + deep) * 16 + s) * 16 + kind(beyond + side)]  # fmt: skip
                bit = coder.mixed(slots, 16 * o + s, 500)
            if bit:
                k[y, x] = 1
                signs = band.signs
                right = int(signs[y, x - 1] + signs[y, x + 1])
                down = int(signs[y - 1, x] + signs[y + 1, x])
                position = SIGN + 32 * o + 5 * (right + 2) + down + 2
                signs[y, x] = 1 - 2 * coder.alone(position)


def joined(low: np.ndarray, high: np.ndarray, name: str) -> np.ndarray:
    """One level of synthesis of a periodic signal, in real numbers."""
    if name == "haar":
        even, odd = (low - high) / 2**0.5, (low + high) / 2**0.5
    elif name == "5/3":
        even = low - (np.roll(high, 1) + high) / 4
        odd = high + (even + np.roll(even, -1)) / 2
    else:
        even, odd = low / 1.149604398860241, high * -1.149604398860241
        for update, predict in LIFTING:
            even = even - update * (odd + np.roll(odd, 1))
            odd = odd - predict * (even + np.roll(even, -1))
    return np.stack([even, odd], axis=1).ravel()


def norms(name: str, levels: int) -> list[list[float]]:
    """L2 norms of the bands' synthesis functions, from those along an axis to 5 digits."""

    def axis(level: int, high: bool) -> float:
        unit, nothing = np.eye(1, 32, 16)[0], np.zeros(32)
        signal = joined(nothing, unit, name) if high else joined(unit, nothing, name)
        for _ in range(level - 1):
            signal = joined(signal, np.zeros(len(signal)), name)
        return round(float(np.sqrt((signal**2).sum())), 5)

    details = []
    for level in range(1, levels + 1):
        low, high = axis(level, False), axis(level, True)
        details.append([high * low, low * high, high * high])
    return [[axis(levels, False) ** 2 if levels else 1.0], *details[::-1]]


def join(x: np.ndarray, name: str) -> np.ndarray:
    """Synthesis along the first axis of low and high numbers in turns; mirrored at the ends."""
    n = len(x)
    if n == 1:
        return x
    if name == "haar":
        low, high = x[: n - n % 2 : 2].copy(), x[1::2].copy()
        x[: n - n % 2 : 2], x[1::2] = (low - high) / 2**0.5, (low + high) / 2**0.5
        return x
    at = np.abs(np.arange(-1, n + 1))
    at = np.where(at < n, at, 2 * (n - 1) - at)

    def beside(first: int) -> np.ndarray:
        return x[at[first:n:2]] + x[at[first + 2 : n + 2 : 2]]

    if name == "5/3":
        x[::2] -= (beside(0) + 2) >> 2
        x[1::2] += beside(1) >> 1
        return x
    x[::2] /= 1.149604398860241
    x[1::2] *= -1.149604398860241
    for update, predict in LIFTING:
        x[::2] -= update * beside(0)
        x[1::2] -= predict * beside(1)
    return x


def synthesis(values: list[list[np.ndarray]], name: str) -> np.ndarray:
    """The plane of bands."""
    low = values[0][0]
    for hl, lh, hh in values[1:]:
        whole = np.zeros((len(low) + len(lh), low.shape[1] + hl.shape[1]), low.dtype)
        whole[::2, ::2], whole[::2, 1::2], whole[1::2, ::2], whole[1::2, 1::2] = low, hl, lh, hh
        low = join(join(whole.T.copy(), name).T.copy(), name)
    return low


def wavelet(
    data: bytes, step: float, levels: int, name: str = "9/7", *, luma: bool = True
) -> np.ndarray:
    """A picture of `wavelet` in one part; `step` in full scale."""
    c = Container(data)
    (section,) = c.sections
    strengths, section = section[: c.channels + 1], section[c.channels + 1 :]
    coder = Decoder(section[4:], cut=len(section) - 4 < int.from_bytes(section[:4], "little"))
    levels = min(levels, min(c.height, c.width).bit_length() - 1)
    pictures = [
        [[Band(*size) for size in level] for level in sizes(c.height, c.width, levels)]
        for _ in range(c.channels)
    ]
    contexts = [coder.fresh() for _ in pictures]
    with suppress(Missing):
        for plane in range(strengths[0] - 1, -1, -1):
            for bands, context in zip(pictures, contexts, strict=True):
                coder.use(context)
                bit_plane(coder, bands, plane)
    step = max(1, round(step * (2**c.bits - 1))) if name == "5/3" else step
    planes = [
        synthesis(
            [[numbers(*pair, step, name) for pair in zip(*level, strict=True)]
             for level in zip(bands, norms(name, levels), strict=True)], name)
        for bands in pictures
    ]  # fmt: skip
    if name == "5/3":
        planes = whole_colours(planes) if c.colour == 1 and luma else planes
        whole = np.dstack(planes) if c.colour else planes[0]
        return (whole + 2 ** (c.bits - 1)).clip(0, 2**c.bits - 1)
    smooth = [smoothed(p, n * step / 10) for p, n in zip(planes, strengths[1:], strict=True)]
    return stored(c, smooth, luma=luma)


def numbers(band: Band, norm: float, step: float, name: str) -> np.ndarray:
    """Numbers of a band in full scale, or with 5/3 in dn."""
    if name != "5/3":
        return band.numbers() * (step / norm)
    unit = 1 if step == 1 else max(1, round(step / norm))
    return np.rint(band.numbers() * unit).astype(int)
