"""Rate-distortion-optimised quantization: numbers are lowered where it pays."""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float32, Int32, Int64

#: Value of a bit, in squared steps: at high rates 2 ln 2 / 12 = 0.116 is exact.
BIT = 0.1


def quantize(scaled: Float32, bit: float = BIT) -> Int32:
    """Whole numbers for coefficients in units of the step, shape (rows, columns, h, w).

    Each may become its nearest whole number, the one below, or (from 2) 0: the one with the least
    squared error plus `bit` times its bits. Bits are estimated from how often each number occurs
    at like frequencies in like surroundings, of the picture itself. The lowest frequency of
    each block is rounded.

    Source: after Karczewicz, Ye and Chong, ITU-T VCEG-AH21, 2008.
    """
    from magnetite.core.codecs.entropy.rdo_kernel import FREQUENCIES, choose, contexts

    scaled = np.ascontiguousarray(scaled)
    context, counts = contexts(scaled, FREQUENCIES)
    return choose(scaled, context, _bits(counts), bit, lowest=False)


def quantize_band(scaled: Float32, bit: float = BIT) -> Int32:
    """The same for a band of wavelets, shape (h, w), where all frequencies are alike."""
    from magnetite.core.codecs.entropy.rdo_kernel import choose, contexts

    band = np.ascontiguousarray(scaled)[np.newaxis, np.newaxis]
    context, counts = contexts(band, 1)
    numbers = choose(band, context, _bits(counts), bit, lowest=True)
    return numbers.reshape(scaled.shape)


def _bits(counts: Int64) -> Float32:
    """Bits of each number up to 15 in each context, the sign's included."""
    from magnetite.core.codecs.entropy.rdo_kernel import CLASSES, FREQUENCIES, TOLD

    table = counts.reshape(CLASSES, FREQUENCIES, TOLD)
    # Bits of numbers that are rare at one frequency are estimated from all frequencies.
    pooled = table.sum(axis=1, keepdims=True) + 1e-9
    shares = table + 8 * pooled / pooled.sum(axis=2, keepdims=True) + 1e-3
    bits = -np.log2(shares / shares.sum(axis=2, keepdims=True))
    bits[..., 1:] += 1
    return np.asarray(bits.reshape(-1, TOLD), np.float32)
