"""Degradations: calibrated, deterministic, certified."""

from __future__ import annotations

import math

import numpy as np
import pytest

import magnetite
from magnetite.core.degrade.blur import gaussian_blur
from magnetite.core.degrade.levels import quantize
from magnetite.core.picture import Picture, as_picture

MID_GRAY = as_picture(np.full((256, 256), 32768, np.uint16))


def findings(degraded: object, step: int = 0) -> dict[str, object]:
    return {f.quantity: f for f in degraded.certificate.steps[step].findings}


@pytest.mark.parametrize("seed", range(20))
def test_gaussian_noise_has_the_sd_asked_for(seed: int) -> None:
    degraded = magnetite.degrade(MID_GRAY, "gaussian-noise sd=1000dn", seed=seed)
    noise = degraded.picture.samples.astype(float) - 32768
    n = noise.size
    assert abs(noise.mean()) < 4 * 1000 / math.sqrt(n)
    assert abs(noise.std() - 1000) < 4 * 1000 / math.sqrt(2 * n)
    z = (noise - noise.mean()) / noise.std()
    assert abs((z**3).mean()) < 4 * math.sqrt(6 / n)
    assert abs((z**4).mean() - 3) < 4 * math.sqrt(24 / n)
    finding = findings(degraded)["sd"]
    assert finding.asked == 1000
    assert finding.stored == pytest.approx(noise.std(), rel=1e-4)
    assert finding.verdict == "as asked"


@pytest.mark.parametrize("per", ["pixel", "channel"])
@pytest.mark.parametrize("seed", range(5))
def test_salt_pepper_hits_are_binomial(per: str, seed: int) -> None:
    gray = as_picture(np.full((200, 200, 3), 90, np.uint8))
    step = f"salt-pepper density=10% white=0.3 per={per}"
    degraded = magnetite.degrade(gray, step, seed=seed)
    samples = degraded.picture.samples
    hit = (samples != 90).any(-1) if per == "pixel" else samples != 90
    if per == "pixel":
        assert ((samples == samples[..., :1]).all(-1)).all()
    n, hits = hit.size, int(hit.sum())
    assert abs(hits - 0.1 * n) < 4 * math.sqrt(n * 0.1 * 0.9)
    white = int((samples == 255).sum()) / (3 if per == "pixel" else 1)
    assert abs(white - 0.3 * hits) < 4 * math.sqrt(hits * 0.3 * 0.7)
    assert findings(degraded)["density"].drawn == hits / n


@pytest.mark.parametrize("sigma", [0.8, 1.6, 4.0])
def test_gaussian_blur_is_the_gaussian(sigma: float) -> None:
    line = np.zeros((5, 201))
    line[:, 100] = 1
    spread = gaussian_blur(line, sigma=sigma)[2]
    assert spread.sum() == pytest.approx(1, abs=1e-12)
    frequency = np.arange(40) / 201
    mtf = np.abs(np.fft.rfft(spread))[:40]
    # A sampled Gaussian repeats its spectrum at every whole frequency (Poisson's sum).
    shifted = frequency[:, None] + np.arange(-4, 5)
    repeated = np.exp(-2 * (np.pi * sigma * shifted) ** 2).sum(1)
    np.testing.assert_allclose(mtf, repeated / repeated[0], atol=2e-5)
    edge = gaussian_blur(np.repeat([[0.0, 1.0]], 100, axis=1).repeat(5, axis=0), sigma=sigma)[2]
    assert edge[99] + edge[100] == pytest.approx(1)


def test_quantizer_has_evenly_spaced_levels_and_their_error_power() -> None:
    ramp = np.linspace(0, 1, 200_001).reshape(1, -1)
    coarse = quantize(ramp, bits=3)
    np.testing.assert_allclose(np.unique(coarse), np.arange(8) / 7)
    step = 1 / 7
    assert ((coarse - ramp) ** 2).mean() == pytest.approx(step**2 / 12, rel=1e-3)


def test_more_levels_than_the_picture_has_change_nothing() -> None:
    every = as_picture(np.arange(256, dtype=np.uint8).reshape(16, 16))
    assert magnetite.degrade(every, "quantize bits=8").picture.same_samples(every)


def test_same_seed_same_picture_whatever_the_order(picture: Picture) -> None:
    chain = "gaussian-blur sigma=0.7 + gaussian-noise sd=4% + salt-pepper density=1%"
    first = magnetite.degrade(picture, chain, seed=7)
    magnetite.degrade(picture, "gaussian-noise sd=1%", seed=3)
    again = magnetite.degrade(picture, chain, seed=7)
    other = magnetite.degrade(picture, chain, seed=8)
    assert first.picture.same_samples(again.picture)
    assert first.certificate == again.certificate
    assert not first.picture.same_samples(other.picture)


def test_places_in_a_chain_draw_different_noise() -> None:
    twice = magnetite.degrade(MID_GRAY, "gaussian-noise sd=1% + gaussian-noise sd=1%")
    assert findings(twice, 0)["sd"].drawn != findings(twice, 1)["sd"].drawn
    noise = twice.picture.samples.astype(float) - 32768
    assert noise.std() == pytest.approx(math.sqrt(2) * 655.35, rel=0.02)


def test_clipping_is_counted_not_wrapped() -> None:
    black = as_picture(np.zeros((300, 300), np.uint8))
    degraded = magnetite.degrade(black, "gaussian-noise sd=10dn")
    clipped = degraded.certificate.clipped
    # Normal noise below half a digital number under 0: the share beyond 0.05 sd.
    assert clipped.share == pytest.approx(0.5 * math.erfc(0.05 / math.sqrt(2)), abs=0.01)
    assert clipped.high == 0
    assert degraded.picture.samples.max() < 100
    sd = findings(degraded)["sd"]
    assert sd.verdict == "as asked"
    assert sd.stored < 0.65 * sd.drawn


def test_a_codec_is_a_step_like_any_other(picture: Picture) -> None:
    direct = magnetite.compress(picture, "dct step=6%").picture
    degraded = magnetite.degrade(picture, "dct step=6%").picture
    np.testing.assert_allclose(degraded.pixels(), direct.pixels(), atol=1e-6)
