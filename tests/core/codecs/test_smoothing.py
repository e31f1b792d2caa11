"""What optimised numbers and smoothing are worth."""

from __future__ import annotations

import numpy as np
import pytest

import magnetite
from magnetite.synthetic.catalogue import SCENES


@pytest.mark.parametrize("codec", ["dct", "wavelet"])
def test_optimised_numbers_and_smoothing_pay(codec: str) -> None:
    scene = SCENES[1].picture(240, 180, 0).luma()

    def curve(settings: str) -> list[tuple[float, float]]:
        steps = f"{codec} {settings} step=3%,6%,12%,20%"
        return [
            (p.bpp, p.scores["psnr"]) for p in magnetite.curve(scene, steps, "psnr").points(0, 0)
        ]

    plain, optimised = curve("optimise=off smooth=off"), curve("optimise=on smooth=off")
    assert magnetite.bd_rate(plain, optimised) < -0.02
    assert magnetite.bd_rate(optimised, curve("optimise=on smooth=on")) < -0.01


@pytest.mark.parametrize("codec", ["dct", "wavelet"])
@pytest.mark.parametrize("kind", ["noise", "edge", "flat"])
def test_smoothing_never_adds_error(codec: str, kind: str) -> None:
    rng = np.random.default_rng(3)
    samples = {
        "noise": rng.integers(90, 160, (80, 90)),
        "edge": np.where(np.arange(90) + np.arange(80)[:, np.newaxis] < 85, 60, 180),
        "flat": np.full((80, 90), 77),
    }[kind].astype(np.uint8)
    for step in ("2dn", "12dn", "60dn"):
        rough, smooth = (
            magnetite.compress(samples, f"{codec} step={step} smooth={setting}").picture.samples
            for setting in ("off", "on")
        )
        errors = [((made.astype(float) - samples) ** 2).mean() for made in (rough, smooth)]
        # What is clipped and rounded to whole digital numbers may differ by a little.
        assert errors[1] <= errors[0] * 1.002 + 0.01
