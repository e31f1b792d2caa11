"""The hot loops of certificates: sums over a band of rows in one pass, storing included.

Each takes float32 rows before and after a step and full scale, and returns the sums that the
surveys define on arrays, with the samples clipped at black and at full scale in front.
"""

from __future__ import annotations

import numpy as np

from magnetite.core.arrays import Float32, Float64
from magnetite.core.compute.jit import compiled

_exact = compiled()
_compiled = compiled(fastmath={"contract", "nsz", "reassoc"})


@_compiled
def change_sums(before: Float32, after: Float32, full_scale: np.float32) -> Float64:
    """Sums of `ChangeSurvey`, of samples of shape (h, w n)."""
    sums, row = np.zeros(5), np.empty(before.shape[1], np.float32)
    for i in range(before.shape[0]):
        _stored(row, after[i], full_scale, sums)
        drawn = kept = 0.0
        for j in range(row.size):
            b = np.float64(before[i, j])
            d, k = np.float64(after[i, j]) - b, np.float64(row[j]) - b
            drawn += d * d
            kept += k * k
        sums[2] += drawn
        sums[3] += kept
    sums[4] = before.size
    return sums


@_compiled
def noise_sums(
    before: Float32, after: Float32, full_scale: np.float32,
    mean: float, sd: float, lag: int, points: int, furthest: float,
) -> Float64:  # fmt: skip
    """Sums of `AdditiveSurvey`, of samples of shape (h, w n); `lag` is the number n of channels."""
    head = 13
    sums, row = np.zeros(head + points), np.empty(before.shape[1], np.float32)
    noise = np.empty(before.shape[1])
    scale = points / (2 * furthest * sd) if sd > 0 else 0.0
    pairs = row.size - lag
    for i in range(before.shape[0]):
        _stored(row, after[i], full_scale, sums)
        _stored_noise(row, before[i], sums)
        s1 = s2 = s3 = s4 = products = 0.0
        for j in range(row.size):
            noise[j] = np.float64(after[i, j] - before[i, j]) - mean
        for j in range(row.size):
            d = noise[j]
            s1 += d
            s2 += d * d
            s3 += d * d * d
            s4 += (d * d) * (d * d)
        for j in range(pairs):
            products += noise[j] * noise[j + lag]
        ends = 0.0
        for j in range(min(lag, row.size)):
            ends += noise[j] + noise[row.size - 1 - j]
        sums[5] += row.size
        sums[6] += s1
        sums[7] += s2
        sums[8] += s3
        sums[9] += s4
        sums[10] += products
        if pairs > 0:
            sums[11] += 2 * s1 - ends
            sums[12] += pairs
        if sd > 0:
            _count(sums[head:], noise, scale)
    return sums


@_compiled
def level_sums(
    before: Float32, after: Float32, full_scale: np.float32,
    first: np.float32, step: np.float32, low: np.float32, high: np.float32, count: int,
) -> Float64:  # fmt: skip
    """Sums of `LevelsSurvey`, of samples of shape (h, w n)."""
    head = 9
    sums, row = np.zeros(head + count), np.empty(before.shape[1], np.float32)
    for i in range(before.shape[0]):
        _stored(row, after[i], full_scale, sums)
        drawn = kept = shift = 0.0
        outside = 0
        for j in range(row.size):
            b = before[i, j]
            d, k = np.float64(after[i, j]) - b, np.float64(row[j]) - b
            drawn += d * d
            kept += k * k
            shift += after[i, j] - b
            outside += (b < low) | (b > high)
        sums[3] += drawn
        sums[4] += kept
        sums[5] += shift
        sums[6] += outside
        total = products = 0.0
        for j in range(row.size):
            position = np.int64(np.rint((after[i, j] - first) / step))
            sums[head + position] += 1
            total += after[i, j]
            products += np.float64(after[i, j]) * position
        sums[7] += total
        sums[8] += products
    sums[2] = before.size
    return sums


@_exact
def _stored(out: Float32, pixels: Float32, full_scale: np.float32, sums: Float64) -> None:
    """A row as stored, in shares of full scale; counts the samples clipped."""
    low = high = 0
    for j in range(pixels.size):
        number = np.rint(pixels[j] * full_scale)
        low += number < 0
        high += number > full_scale
        out[j] = min(max(number, np.float32(0)), full_scale) / full_scale
    sums[0] += low
    sums[1] += high


@_compiled
def _stored_noise(row: Float32, before: Float32, sums: Float64) -> None:
    """Sum and squares of the noise as stored, and of the signal."""
    total = squares = power = 0.0
    for j in range(row.size):
        b = np.float64(before[j])
        k = np.float64(row[j]) - b
        total += k
        squares += k * k
        power += b * b
    sums[2] += total
    sums[3] += squares
    sums[4] += power


@_exact
def _count(counts: Float64, noise: Float64, scale: float) -> None:
    """Add a row to the histogram of the noise."""
    last = counts.size - 1
    for j in range(noise.size):
        position = noise[j] * scale + counts.size / 2
        counts[np.int64(min(max(position, 0.0), last))] += 1
