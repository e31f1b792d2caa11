"""Checks of degradations, codecs, restorations and calibrations."""

from __future__ import annotations

import math

import numpy as np

import magnetite
from magnetite.core.arrays import Float64, UInt8
from magnetite.core.calibrate.photon_transfer import photon_transfer
from magnetite.core.compute.threads import cores, use_threads
from magnetite.core.picture import Picture, as_picture
from magnetite.selftest.checks import Value, check


def _texture(shape: tuple[int, ...] = (96, 112)) -> UInt8:
    """Waves and noise: the same on every machine."""
    y, x = np.mgrid[: shape[0], : shape[1]]
    waves = 120 + 60 * np.sin(x / 9) * np.cos(y / 7)
    waves = waves + np.random.default_rng(7).normal(0, 6, shape[:2])
    return np.asarray(np.rint(waves.clip(0, 255)), np.uint8)


def _differing(one: Picture, two: Picture) -> float:
    return float(np.count_nonzero(one.samples != two.samples))


@check("variance of Gaussian noise of 10 dn", tolerance=2.4, unit="dn²",
       source="10² + 1/12 of rounding; 4 standard errors 100 √(2 / n)")  # fmt: skip
def _gaussian() -> Value:
    made = magnetite.degrade(np.full((240, 240), 128, np.uint8), "gaussian-noise sd=10dn", seed=3)
    difference = made.picture.samples.astype(float) - 128
    return Value(100 + 1 / 12, float(difference.var()))


@check("variance of Poisson noise, 100 photons", tolerance=0.006, unit="mean²",
       source="mean of k photons has the variance k: 1 / 50 at half of full scale")  # fmt: skip
def _poisson() -> Value:
    made = magnetite.degrade(np.full((200, 200), 0.5, np.float32), "poisson-noise photons=100")
    return Value(1 / 50, float(made.picture.samples.var() / 0.25))


@check("share of salt and pepper, density 10 %", tolerance=0.005,
       source="binomial; 4 standard errors √(p (1 - p) / n)")  # fmt: skip
def _impulses() -> Value:
    made = magnetite.degrade(np.full((240, 240), 128, np.uint8), "salt-pepper density=10%")
    return Value(0.1, float((made.picture.samples != 128).mean()))


@check("noise of one seed on 1 and 2 threads", tolerance=0, unit="samples that differ",
       source="equal to the bit")  # fmt: skip
def _threads() -> Value:
    ground, made = np.full((600, 500), 128, np.uint8), []
    try:
        for count in (1, 2):
            use_threads(count)
            made.append(magnetite.degrade(ground, "gaussian-noise sd=5%", seed=11).picture)
    finally:
        use_threads(cores())
    return Value(0.0, _differing(*made))


@check("error of quantizing a ramp to 16 levels", tolerance=2e-4, unit="step²",
       source="variance of a uniform error, 1 / 12")  # fmt: skip
def _quantized() -> Value:
    ramp = np.linspace(0, 1, 2**16, dtype=np.float32).reshape(256, 256)
    made = magnetite.degrade(ramp, "quantize levels=16", overflow="keep").picture
    inner = (ramp > 1 / 30) & (ramp < 29 / 30)
    error = (made.samples.astype(float) - ramp)[inner] * 15
    return Value(1 / 12, float((error**2).mean()))


@check("middle of a blurred impulse, sigma 2 px", tolerance=1e-6,
       source="(Σ exp(-x² / 8))^-2 over whole x")  # fmt: skip
def _blurred() -> Value:
    impulse = np.zeros((65, 65), np.float32)
    impulse[32, 32] = 1
    made = magnetite.degrade(impulse, "gaussian-blur sigma=2px", overflow="keep").picture
    total = sum(math.exp(-(x**2) / 8) for x in range(-40, 41))
    return Value(total**-2, float(made.samples[32, 32]))


def _lossless(text: str, samples: np.ndarray) -> Value:
    picture = as_picture(samples)
    return Value(0.0, _differing(picture, magnetite.expand(magnetite.compress(picture, text).data)))


@check("predictive, decoded", tolerance=0, unit="samples that differ", source="lossless")
def _predictive() -> Value:
    return _lossless("predictive", _texture())


@check("predictive of 16 bits, decoded", tolerance=0, unit="samples that differ",
       source="lossless")  # fmt: skip
def _predictive_16() -> Value:
    return _lossless("predictive", _texture().astype(np.uint16) * 251)


@check("predictive with a bound of 3, largest error", tolerance=0, unit="dn",
       source="near-lossless: at most 3")  # fmt: skip
def _near_lossless() -> Value:
    picture = as_picture(_texture())
    decoded = magnetite.expand(magnetite.compress(picture, "predictive bound=3").data)
    error = np.abs(decoded.samples.astype(int) - picture.samples).max()
    return Value(3.0, float(error))


@check("bit-planes of all 8, decoded", tolerance=0, unit="samples that differ",
       source="lossless")  # fmt: skip
def _planes() -> Value:
    return _lossless("bit-planes keep=8", _texture())


@check("median of 1 to 9", tolerance=0, unit="dn", source="the fifth of nine")
def _median() -> Value:
    nine = np.random.default_rng(5).permutation(np.arange(1, 10)).reshape(3, 3).astype(np.uint8)
    return Value(5.0, float(magnetite.restore(nine, "median size=3").picture.samples[1, 1]))


@check("mean of nine samples", tolerance=0, unit="dn", source="arithmetic mean")
def _mean() -> Value:
    picture = np.full((9, 9), 20, np.uint8)
    picture[4, 4] = 110
    return Value(30.0, float(magnetite.restore(picture, "mean size=3").picture.samples[3, 3]))


def _edge(sigma: float) -> Float64:
    """A step at 5 degrees, blurred by a Gaussian and the aperture of a px."""
    from scipy.special import ndtr

    y, x = np.mgrid[:120, :120]
    offsets = (np.arange(8) + 0.5) / 8 - 0.5
    angle = math.radians(5)
    total = np.zeros((120, 120))
    for dy in offsets:
        for dx in offsets:
            across = (x + dx - 60) * math.cos(angle) + (y + dy - 60) * math.sin(angle)
            total += ndtr(across / sigma)
    return np.asarray(total / 64)


@check("mtf50 of an edge, sigma 1 px", tolerance=0.004, unit="c/px",
       source="exp(-2 π² σ² f²) sinc f = 1/2, ISO 12233")  # fmt: skip
def _mtf() -> Value:
    from scipy.optimize import brentq

    samples = np.rint(40 + 170 * _edge(1.0)).astype(np.uint8)

    def excess(f: float) -> float:
        return math.exp(-2 * (math.pi * f) ** 2) * math.sin(math.pi * f) / (math.pi * f) - 0.5

    return Value(brentq(excess, 0.01, 0.5), magnetite.gauge(samples, "mtf50")["mtf50"])


@check("gain of a simulated camera", tolerance=0.012, unit="dn/e",
       source="photon transfer, EMVA 1288; 4 standard errors")  # fmt: skip
def _camera() -> Value:
    rng, frames = np.random.default_rng(4), []
    for level in (500, 2000, 6000, 12000):
        for number in range(3):
            electrons = rng.poisson(level, (96, 96)) + rng.normal(0, 5, (96, 96))
            samples = np.rint(64 + 0.25 * electrons).astype(np.uint16)
            frames.append(Picture(samples, 12, "gray", f"{level}-{number}"))
    return Value(0.25, photon_transfer(frames, black=64).gain.value)
