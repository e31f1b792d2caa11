"""Checks of metrics and gauges."""

from __future__ import annotations

import math

import numpy as np

import magnetite
from magnetite.core.arrays import UInt8
from magnetite.core.metrics.colour import ciede2000
from magnetite.selftest.checks import Value, check


def _flat(value: int, side: int = 64) -> UInt8:
    return np.full((side, side), value, np.uint8)


def _score(reference: UInt8, test: UInt8, metric: str) -> float:
    return magnetite.score(reference, test, metric)[metric]


def _checkerboard(low: int, high: int) -> UInt8:
    board = np.indices((64, 64)).sum(axis=0) % 2
    return np.where(board == 0, low, high).astype(np.uint8)


@check("mse of a constant difference of 3 dn", tolerance=0, unit="dn²", source="3² = 9")
def _mse() -> Value:
    return Value(9.0, _score(_flat(100), _flat(103), "mse"))


@check("psnr of a constant difference of 1 dn", tolerance=1e-9, unit="dB",
       source="20 log10(255)")  # fmt: skip
def _psnr() -> Value:
    return Value(20 * math.log10(255), _score(_flat(100), _flat(101), "psnr"))


@check("psnr of 16 bits, difference of 257", tolerance=1e-9, unit="dB", source="20 log10(255)")
def _psnr_16() -> Value:
    one, two = (np.full((64, 64), value, np.uint16) for value in (1000, 1257))
    return Value(20 * math.log10(255), magnetite.score(one, two, "psnr")["psnr"])


@check("mae of a checkerboard of ±2 dn", tolerance=0, unit="dn", source="mean of 2 and 2")
def _mae() -> Value:
    return Value(2.0, _score(_flat(100), _checkerboard(98, 102), "mae"))


@check("ssim of two flat pictures", tolerance=1e-9,
       source="(2ab + C1) / (a² + b² + C1), doi:10.1109/TIP.2003.819861")  # fmt: skip
def _ssim_flat() -> Value:
    a, b, c1 = 100.0, 140.0, (0.01 * 255) ** 2
    return Value((2 * a * b + c1) / (a * a + b * b + c1), _score(_flat(100), _flat(140), "ssim"))


@check("ssim of a picture with itself", tolerance=0, source="1 by definition")
def _ssim_self() -> Value:
    board = _checkerboard(40, 200)
    return Value(1.0, _score(board, board, "ssim"))


@check("ciede2000, pair 1 of the test data", tolerance=5e-5,
       source="Sharma, Wu and Dalal 2005, table 1, doi:10.1002/col.20070")  # fmt: skip
def _ciede_1() -> Value:
    one, two = np.array([50.0, 2.6772, -79.7751]), np.array([50.0, 0.0, -82.7485])
    return Value(2.0425, float(ciede2000(one, two)))


@check("ciede2000, pair 25 of the test data", tolerance=5e-5,
       source="Sharma, Wu and Dalal 2005, table 1, doi:10.1002/col.20070")  # fmt: skip
def _ciede_25() -> Value:
    one, two = np.array([60.2574, -34.0099, 36.2677]), np.array([60.4626, -34.1751, 39.4387])
    return Value(1.2644, float(ciede2000(one, two)))


@check("entropy of 256 levels, equally often", tolerance=1e-12, unit="bit", source="log2 256")
def _entropy() -> Value:
    levels = np.tile(np.arange(256, dtype=np.uint8), (64, 1))
    return Value(8.0, magnetite.gauge(levels, "entropy")["entropy"])


@check("sd of a checkerboard of 98 and 102 dn", tolerance=1e-12, unit="dn", source="2")
def _sd() -> Value:
    return Value(2.0, magnetite.gauge(_checkerboard(98, 102), "sd")["sd"])


@check("estimated sd of white noise of 8 dn", tolerance=0.3, unit="dn",
       source="simulation, standard error 0.04 dn")  # fmt: skip
def _noise() -> Value:
    noisy = 128 + np.random.default_rng(1).normal(0, 8, (256, 256))
    samples = np.rint(noisy).clip(0, 255).astype(np.uint8)
    return Value(8.0, magnetite.gauge(samples, "noise-blocks")["noise-blocks"])
