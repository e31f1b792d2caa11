"""Degradations: calibrated, deterministic, certified."""

from __future__ import annotations

import math
import re

import numpy as np
import pytest

import magnetite
from magnetite.core.chain.bind import bind
from magnetite.core.chain.notation import parse_chain
from magnetite.core.degrade.certify.change import Change
from magnetite.core.errors import PictureError
from magnetite.core.operations.findings import survey_of
from magnetite.core.picture import Picture, as_picture

MID_GRAY = as_picture(np.full((256, 256), 32768, np.uint16))


def findings(degraded: object, step: int = 0) -> dict[str, object]:
    return {f.quantity: f for f in degraded.certificate.steps[step].findings}


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


@pytest.mark.parametrize(
    ("chain", "overflow", "unit"),
    [("gaussian-noise sd=9dn", "clip", 1), ("gaussian-noise sd=9dn", "keep", 255),
     ("shift right=2", "clip", 1)],
)  # fmt: skip
def test_the_rms_difference_is_that_of_the_samples(chain: str, overflow: str, unit: float) -> None:
    small = as_picture(np.random.default_rng(3).integers(0, 256, (7, 9)).astype(np.uint8))
    made = magnetite.degrade(small, chain, seed=1, overflow=overflow)
    samples = unit * made.picture.samples.astype(float)
    expected = math.sqrt(((samples - small.samples) ** 2).mean())
    assert made.certificate.rms_difference == pytest.approx(expected, rel=1e-6)


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


def test_positions_in_a_chain_draw_different_noise() -> None:
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


def test_overflow_may_be_kept_or_refused() -> None:
    dark = as_picture(np.full((80, 80), 3, np.uint8))
    step = "gaussian-noise sd=10dn"
    kept = magnetite.degrade(dark, step, overflow="keep")
    assert kept.picture.bits is None
    assert kept.picture.samples.min() < 0
    sd = findings(kept)["sd"]
    assert sd.stored == pytest.approx(sd.drawn, rel=1e-5)
    assert kept.certificate.as_dict()["stored"]["overflow"] == "keep"
    with pytest.raises(PictureError, match="leave the range, and overflow is fail"):
        magnetite.degrade(dark, step, overflow="fail")
    assert magnetite.degrade(dark, "offset by=1dn", overflow="fail").certificate.clipped.share == 0
    (advice,) = magnetite.degrade(dark, step).certificate.steps[0].advice
    assert re.search(r"clipping leaves the noise \d+\.\d% weaker: overflow keep", advice)
    gray = np.full((80, 80), 128, np.uint8)
    (advice,) = magnetite.degrade(gray, "gaussian-noise sd=0.3dn").certificate.steps[0].advice
    # Share of samples that normal noise of 0.3 dn moves to the next number: 2 (1 - Φ(0.5 / 0.3)).
    kept_sd = math.sqrt(math.erfc(0.5 / 0.3 / math.sqrt(2)))
    assert f"rounding to 8 bits leaves the noise {kept_sd / 0.3 - 1:.0%}"[:-2] in advice


def test_the_certificate_counts_the_samples_clipped_at_each_end() -> None:
    ramp = np.tile(np.arange(256, dtype=np.uint8), (4, 1))
    for by, low, high in ((-9, 9, 0), (30, 0, 30)):
        degraded = magnetite.degrade(ramp, f"offset by={by}dn")
        stored = degraded.certificate.as_dict()["stored"]
        shares = stored["share_below_black"], stored["share_above_full_scale"]
        assert shares == pytest.approx((low / 256, high / 256))
        (name,) = [name for name in findings(degraded) if name.startswith("clipped")]
        assert name == ("clipped at black" if low else "clipped at full scale")
        assert findings(degraded)[name].stored == pytest.approx((low + high) / 256)
        expected = np.minimum(np.maximum(ramp.astype(int) + by, 0), 255) - ramp.astype(int)
        assert stored["rms_difference"] == pytest.approx(math.sqrt((expected**2).mean()))


def test_a_codec_is_a_step_like_any_other(picture: Picture) -> None:
    direct = magnetite.compress(picture, "dct step=6%").picture
    degraded = magnetite.degrade(picture, "dct step=6%").picture
    np.testing.assert_allclose(degraded.pixels(), direct.pixels(), atol=1e-6)


@pytest.mark.parametrize(
    "chain",
    ["gaussian-noise sd=4% mean=1%", "gaussian-noise snr=24", "uniform-noise sd=2%",
     "gaussian-blur sigma=1", "quantize bits=3", "quantize step=51dn rule=mid-rise"],
)  # fmt: skip
@pytest.mark.parametrize("channels", [1, 3])
def test_surveys_of_large_pictures_are_those_of_their_definition(chain: str, channels: int) -> None:
    """One pass of a compiled loop against arrays, which small pictures and floats take."""
    y, x = np.mgrid[:400, :400]
    plane = np.rint(128 + 140 * np.sin(x / 17) * np.cos(y / 23) + x % 7).clip(0, 255)
    samples = np.stack([plane] * channels, axis=-1).astype(np.uint8).squeeze()
    picture = as_picture(samples)
    step = bind(parse_chain(chain, "degradation"), picture.frame)[0]
    drawn = [np.random.default_rng(1)] if step.draws else []
    before = picture.pixels()
    after = step.call(before, *drawn)
    survey = survey_of(step, before)
    assert survey is not None
    in_one = survey.in_one_pass(before, after, np.float32(255))
    stored, clipped = picture.with_pixels(after)
    on_arrays = survey.of(Change(before, after, stored.pixels(), clipped))
    np.testing.assert_allclose(in_one[2:], on_arrays, rtol=1e-9, atol=1e-6)
    assert tuple(in_one[:2]) == clipped[:2]
