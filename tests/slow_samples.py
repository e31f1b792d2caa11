"""`predictive` and `pcm` decoded as docs/mgt-format.md says, in plain Python."""

from __future__ import annotations

import math

import numpy as np

from slow_decoder import Container, Decoder, whole_colours


def predictive(data: bytes, bound: int) -> np.ndarray:
    """A picture of `predictive`; lossless ones of RGB by the reversible colour transform."""
    c = Container(data)
    half, step = 2 ** (c.bits - 1), 2 * bound + 1
    reversible = c.colour == 1 and bound == 0
    planes = []
    for section in c.sections:
        low = -half if not reversible or not planes else 1 - 2 * half
        coder = Decoder(section)
        planes.append(coded_samples(coder, c.height, c.width, low, -low - (low == -half), step))
    planes = whole_colours(planes) if reversible else planes
    return (np.dstack(planes) if c.colour else planes[0]) + half


def pcm(data: bytes, kept: int) -> np.ndarray:
    """A gray picture of `pcm`."""
    c = Container(data)
    top = 2**kept - 1
    numbers = coded_samples(Decoder(c.sections[0]), c.height, c.width, 0, top, 1)
    return np.rint((numbers + 0.5) / 2**kept * (2**c.bits - 1))


def bits(n: int) -> int:
    return min(15, n.bit_length())


def fine(n: int) -> int:
    length = bits(n)
    return min(31, 2 * length + (n >> (length - 2) & 1 if length >= 2 else 0))


def coded_samples(
    coder: Decoder, height: int, width: int, low: int, high: int, step: int
) -> np.ndarray:
    """Samples between two numbers, each coded by its difference from a prediction."""
    x = np.full((height + 2, width + 6), (low + high + 1) // 2)
    e, miss = np.zeros_like(x), np.zeros((6, *x.shape), int)
    bias: dict[int, int] = {}
    seen: dict[int, int] = {}

    for i in range(2, height + 2):
        x[i, :3] = x[i - 1, 3]
        for j in range(3, width + 3):
            w, ww, n, nw, ne, nn, nne = (
                int(x[i - a, j + b])
                for a, b in ((0, -1), (0, -2), (1, 0), (1, -1), (1, 1), (2, 0), (2, 1))
            )
            guesses = (w, n, w + n - nw, w + ((ne - nw) >> 1), n + ((ne - nne + n - nn) >> 1),
                       w + ne - n)  # fmt: skip
            weights = []
            for k in range(6):
                p = 2 * (miss[k, i, j - 1] + miss[k, i - 1, j]) + miss[k, i - 1, j - 1]
                p = int(p + miss[k, i - 1, j + 1] + miss[k, i, j - 2])
                weights.append(1 if p >= 2**17 else 2**36 // ((p + 1) ** 2 + 1) + 1)
            total = sum(g * t for g, t in zip(guesses, weights, strict=True))
            p8 = math.floor(8 * (total / sum(weights)) + 0.5)
            ew, en, enw, ene, eww = (
                int(e[i - a, j + b]) for a, b in ((0, -1), (1, 0), (1, -1), (1, 1), (0, -2))
            )
            energy = 2 * abs(ew) + 2 * abs(en) + abs(enw) + abs(ene) + abs(eww)
            energy += (abs(w - nw) + abs(n - nw) + abs(n - ne)) // step
            below = (w, n, nw, ne, ww, nn, 2 * n - nn, 2 * w - ww)
            pattern = 8 * sum((8 * t < p8) << k for k, t in enumerate(below))
            pattern += min(7, bits(energy) >> 1)
            share = -(-(2**32) // seen.get(pattern, 1))
            corrected = p8 + ((bias.get(pattern, 0) * share) >> 32)
            prediction = min(high, max(low, (corrected + 4) >> 3))
            g = [min(7, bits(4 * abs(t))) for t in (ew, en, ene)]
            slots = [8 * fine(energy) + min(7, bits(abs(w - n))),
                     40960 + (8 * g[0] + g[1]) * 8 + g[2], 81920 + pattern,
                     122880 + 64 * bits(energy) + 8 * min(7, bits(abs(n - ne)))
                     + min(7, bits(abs(w - nw)))]  # fmt: skip
            length = 0
            while length < 17 and coder.mixed(
                [2048 * length + t for t in slots], 16 * length + bits(energy), 255
            ):
                length += 1
            error = 0
            if length:
                lean = (corrected + 4) & 7
                sign = 3 * (1 + int(np.sign(ew))) + 1 + int(np.sign(en))
                negative = coder.alone(163840 + 9 * (8 * lean + min(7, length)) + sign)
                error = 1
                for depth in range(length - 1):
                    q = error & 3 if depth < 2 else 4 + min(3, depth - 2)
                    slot = 163840 + 576 + 8 * (32 * length + fine(energy)) + q
                    error = 2 * error + coder.alone(slot)
                error = -error if negative else error
            value = min(high, max(low, prediction + error * step))
            x[i, j], e[i, j] = value, error
            bias[pattern] = bias.get(pattern, 0) + 8 * value - p8
            seen[pattern] = seen.get(pattern, 1) + 1
            if seen[pattern] >= 64:
                bias[pattern] >>= 1
                seen[pattern] >>= 1
            for k in range(6):
                miss[k, i, j] = abs(guesses[k] - value)
        x[i, width + 3 :] = x[i, width + 2]
        miss[:, i, width + 3 :] = miss[:, i, width + 2 : width + 3]
    return x[2:, 3 : width + 3]
