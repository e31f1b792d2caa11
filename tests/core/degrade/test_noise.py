"""Noise against the closed forms of its distribution, drawn over many seeds."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np
import pytest
from scipy import stats
from scipy.special import comb

import magnetite
from magnetite.core.compute.random import CHUNK, draw, normal
from magnetite.core.degrade.certify.through import NoiseSurvey
from magnetite.core.errors import PictureError
from magnetite.core.picture import as_picture

#: Float, so that nothing is rounded or clipped.
MID_GRAY = as_picture(np.full((512, 512), 0.5, np.float32))
SPREAD = 0.05
FULL_WELL = 8000.0


def mixture(density: float, hit: object) -> object:
    """Raw moments of a sample at 1/2 that is replaced with a probability."""
    return lambda k: density * hit(k) + (1 - density) * 0.5**k


def poisson(mean: float, k: int) -> float:
    """Raw moment of a Poisson count (Touchard's recurrence)."""
    if k == 0:
        return 1.0
    return mean * sum(comb(k - 1, j) * poisson(mean, j) for j in range(k))


def sensor(k: int) -> float:
    """Raw moments of a Poisson count plus normal read noise of 12 electrons, scaled."""
    read = stats.norm(0, 12)
    terms = [
        comb(k, j) * poisson(FULL_WELL / 2, j) * (read.moment(k - j) if k > j else 1.0)
        for j in range(k + 1)
    ]
    return sum(terms) / FULL_WELL**k


def laplace(k: int) -> float:
    """Raw moment about 1/2; of the standard distribution the even ones are k!."""
    width = SPREAD / math.sqrt(2)
    even = range(0, k + 1, 2)
    return sum(comb(k, j) * 0.5 ** (k - j) * width**j * math.factorial(j) for j in even)


#: Step, and raw moments of what it makes of a sample of 1/2.
CLOSED_FORMS = {
    "gaussian-noise sd=5%": stats.norm(0.5, SPREAD).moment,
    "gaussian-noise variance=0.0025fs2 mean=10%": stats.norm(0.6, SPREAD).moment,
    "uniform-noise sd=5%": stats.uniform(
        0.5 - math.sqrt(3) * SPREAD, math.sqrt(12) * SPREAD
    ).moment,
    "laplace-noise sd=5%": laplace,
    "speckle contrast=0.2": stats.gamma(25, scale=0.02).moment,
    "speckle contrast=0.2 distribution=gaussian": stats.norm(0.5, 0.1).moment,
    "poisson-noise photons=1000": lambda k: poisson(500, k) / 1000**k,
    "sensor-noise full-well=8000e read=12e": sensor,
    "salt-pepper density=0.1 white=0.3": mixture(0.1, lambda k: 0.3 if k else 1.0),
    "impulse-noise density=0.1": mixture(0.1, stats.uniform(0, 1).moment),
}  # fmt: skip


def central_moments(raw: object) -> list[float]:
    """Central moments 0 to 8 from raw ones."""
    about = [float(raw(k)) if k else 1.0 for k in range(9)]
    mean = about[1]
    return [sum(comb(k, j) * about[j] * (-mean) ** (k - j) for j in range(k + 1)) for k in range(9)]


@pytest.mark.parametrize("step", CLOSED_FORMS)
def test_four_moments_are_those_of_the_closed_form(step: str) -> None:
    raw = CLOSED_FORMS[step]
    mean, mu, n = float(raw(1)), central_moments(raw), MID_GRAY.samples.size
    for seed in range(2):
        degraded = magnetite.degrade(MID_GRAY, step, seed=seed)
        samples = degraded.picture.samples.astype(np.float64)
        assert abs(samples.mean() - mean) < 4 * math.sqrt(mu[2] / n)
        centred = samples - samples.mean()
        for k in (2, 3, 4):
            # Variance of a sample's central moment (Kendall and Stuart, vol. 1, 10.5).
            spread = (
                mu[2 * k] - mu[k] ** 2 - 2 * k * mu[k - 1] * mu[k + 1]
                + k**2 * mu[2] * mu[k - 1] ** 2
            )  # fmt: skip
            assert abs((centred**k).mean() - mu[k]) < 4 * math.sqrt(spread / n), (seed, k)
        assert degraded.certificate.verdict == "as asked", (seed, degraded.certificate.steps)


@pytest.mark.parametrize("level", [0.05, 0.2, 0.4, 0.7, 0.95])
def test_poisson_variance_is_its_mean_in_photons(level: float) -> None:
    flat = np.full((400, 400), level)
    counts = magnetite.degrade(flat, "poisson-noise photons=200", seed=1).picture.samples * 200
    np.testing.assert_allclose(counts, np.rint(counts), atol=1e-4)
    mean, error = 200 * level, math.sqrt((2 + 1 / (200 * level)) / counts.size)
    assert abs(counts.var() / mean - 1) < 4 * error


@pytest.mark.parametrize(("key", "reference"), [("psnr", 1.0), ("snr", 0.25)])
def test_noise_of_a_ratio(key: str, reference: float) -> None:
    flat = np.full((500, 500), 0.5)
    for mean in ("0%", "1%"):
        step = f"gaussian-noise {key}=27dB mean={mean}"
        noise = magnetite.degrade(flat, step).picture.samples - 0.5
        assert 10 * math.log10(reference / (noise**2).mean()) == pytest.approx(27, abs=0.05)
    with pytest.raises(PictureError, match="mean alone is stronger"):
        magnetite.degrade(flat, f"gaussian-noise {key}=50 mean=5%")


def test_channels_share_their_noise_when_asked() -> None:
    flat = np.full((60, 50, 3), 0.5)
    common = magnetite.degrade(flat, "laplace-noise sd=5% channels=common").picture.samples
    assert (common == common[..., :1]).all()
    apart = magnetite.degrade(flat, "laplace-noise sd=5%").picture.samples
    assert abs(np.corrcoef(apart[..., 0].ravel(), apart[..., 1].ravel())[0, 1]) < 0.1


def test_a_sensor_keeps_its_fixed_pattern() -> None:
    flat = np.full((300, 300), 0.5)
    step = "sensor-noise full-well=1000000e prnu=2% dsnu=3000e"

    def frame(seed: int, sensor: int = 0) -> np.ndarray:
        return magnetite.degrade(flat, f"{step} sensor={sensor}", seed=seed).picture.samples - 0.5

    one, two, other = frame(1), frame(2), frame(1, sensor=7)
    assert np.corrcoef(one.ravel(), two.ravel())[0, 1] > 0.95
    assert abs(np.corrcoef(one.ravel(), other.ravel())[0, 1]) < 0.02
    assert one.std() == pytest.approx(math.hypot(0.02 * 0.5, 0.003), rel=0.02)

    # Each pattern is its own: it changes with no other setting, and equals no other pattern.
    def pattern(settings: str) -> np.ndarray:
        bright = np.full((300, 300), 0.9)
        step = f"sensor-noise full-well=1000000000e {settings}"
        return magnetite.degrade(bright, step).picture.samples - 0.9

    gain, offset = pattern("prnu=2%"), pattern("dsnu=1000000e")
    assert abs(np.corrcoef(gain.ravel(), offset.ravel())[0, 1]) < 0.02
    both = pattern("prnu=2% dsnu=1000000e")
    np.testing.assert_allclose(both, gain + offset, atol=4e-4)
    # Between frames of one sensor only shot noise differs.
    shot = math.sqrt(0.5e6) / 1e6
    assert ((one - two) / math.sqrt(2)).std() == pytest.approx(shot, rel=0.02)


def test_correlation_of_noise_is_that_of_the_middle() -> None:
    noise = np.random.default_rng(0).normal(0, 9, (1500, 1400, 3))
    noise[238:1262, 188:1212] = np.where(np.arange(1024) % 4 < 2, 1, -1)[
        None, :, None
    ]  # pairs of columns
    survey = NoiseSurvey(1500)
    for first in range(0, 1500, 300):
        survey.add(noise[first : first + 300], first)
    found = {finding.quantity: finding.drawn for finding in survey.findings()}
    for channel, name in enumerate(("red", "green", "blue")):
        assert found[f"noise sd {name}"] == pytest.approx(noise[..., channel].std())
    # Across, pairs follow cos; down the columns nothing changes.
    for lag, across in ((1, 0), (2, -1), (3, 0), (4, 1)):
        assert found[f"noise correlation at {lag} px"] == pytest.approx((1 + across) / 2, abs=2e-3)


def test_row_noise_is_one_offset_a_row() -> None:
    flat = np.full((400, 200, 3), 0.5)
    step = "sensor-noise full-well=1000000e row=5000e"
    degraded = magnetite.degrade(flat, step)
    assert degraded.certificate.verdict == "as asked"
    noise = degraded.picture.samples - 0.5
    rows = noise.mean(axis=(1, 2))
    assert rows.std() == pytest.approx(0.005, rel=4 / math.sqrt(800))
    assert (noise - rows[:, None, None]).std() == pytest.approx(math.sqrt(0.5e6) / 1e6, rel=0.01)


@pytest.mark.parametrize("pattern", ["rggb", "bggr", "grbg", "gbrg"])
def test_colours_of_a_sensor_have_full_wells_of_their_own(pattern: str) -> None:
    wells = {"r": 400, "g": 2000, "b": 9000}
    step = f"full-well={wells['g']}e full-well-red={wells['r']}e full-well-blue={wells['b']}e"
    noise = f"sensor-noise {step} read=3e pattern={pattern}"
    mosaic = magnetite.degrade(np.full((600, 602), 0.5, np.float32), noise, seed=3)
    assert mosaic.certificate.verdict == "as asked"
    rgb = magnetite.degrade(np.full((300, 300, 3), 0.5, np.float32), noise, seed=3)
    planes = [mosaic.picture.samples[k // 2 :: 2, k % 2 :: 2] for k in range(4)]
    colours = list(zip(pattern, planes, strict=True))
    colours += [(colour, rgb.picture.samples[..., k]) for k, colour in enumerate("rgb")]
    for colour, plane in colours:
        expected = math.sqrt(0.5 * wells[colour] + 9) / wells[colour]
        assert plane.std() == pytest.approx(expected, rel=4 / math.sqrt(2 * plane.size)), colour
    with pytest.raises(PictureError, match="a mosaic whose pattern= is stated"):
        magnetite.degrade(mosaic.picture, "sensor-noise full-well=900e full-well-red=100e")


def test_sensor_charges_may_be_given_in_digital_numbers() -> None:
    gray = np.full((64, 64), 100, np.uint8)
    in_dn = magnetite.degrade(gray, "sensor-noise full-well=2550e read=2dn", seed=4)
    in_e = magnetite.degrade(gray, "sensor-noise full-well=2550e read=20e", seed=4)
    assert in_dn.picture.same_samples(in_e.picture)


def test_banding_is_the_wave_it_says() -> None:
    flat = np.full((48, 64), 0.5)
    step = "banding amplitude=10% period=16 angle={} wave={}"
    rows = magnetite.degrade(flat, step.format(90, "sine")).picture.samples - 0.5
    y = np.arange(48)
    expected = -0.1 * np.sin(2 * np.pi * y / 16)
    np.testing.assert_allclose(rows, np.tile(expected[:, None], 64), atol=1e-12)
    columns = magnetite.degrade(flat, step.format(0, "square")).picture.samples - 0.5
    assert np.ptp(columns, axis=0).max() == 0
    np.testing.assert_allclose(np.unique(columns), [-0.1, 0.1])


@pytest.mark.parametrize("slope", [0, 1, 2])
def test_coloured_noise_has_its_spectrum(slope: float) -> None:
    flat = np.full((256, 320), 0.5)
    power = np.zeros((256, 161))
    for seed in range(10):
        noise = magnetite.degrade(flat, f"coloured-noise sd=5% slope={slope}", seed=seed)
        assert noise.certificate.verdict == "as asked"
        power += np.abs(np.fft.rfft2(noise.picture.samples - 0.5)) ** 2
    frequency = np.hypot(np.fft.fftfreq(256)[:, None], np.fft.rfftfreq(320)[None])
    edges = [0.02, 0.04, 0.08, 0.16, 0.32]
    bands = [power[(frequency >= a) & (frequency < b)].mean() for a, b in pairwise(edges)]
    np.testing.assert_allclose(np.log2(np.divide(bands[:-1], bands[1:])), slope, atol=0.12)


def test_draws_do_not_depend_on_threads_and_move_on() -> None:
    shape = (3, CHUNK // 2 + 11)
    one, two = (draw(np.random.default_rng(5), shape, normal) for _ in range(2))
    np.testing.assert_array_equal(one, two)
    rng = np.random.default_rng(5)
    assert (draw(rng, shape, normal) != draw(rng, shape, normal)).all()
    # The chunks are those of the children, in order.
    child = np.random.default_rng(5).spawn(2)[1]
    tail = child.standard_normal(one.size - CHUNK, dtype=np.float32)
    np.testing.assert_array_equal(one.ravel()[CHUNK:], tail)
