"""A camera measured from its chart gives the chart the same noise and the same responses."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

import magnetite
from magnetite.core.chart.camera import camera_of
from magnetite.core.chart.measurement import measure_chart

#: Cameras that are recreated, and the largest difference of their texture's response.
RECREATED = {
    "to-linear standard=srgb + gaussian-blur sigma=0.8px + white-balance red=0.8 green=0.8 "
    "blue=0.8 + sensor-noise full-well=6000e read=5e + to-encoded standard=srgb": 0.02,
    # Its noise is correlated: the response at high frequencies is known less well.
    "survey-camera": 0.03,
}


@pytest.mark.long
@pytest.mark.parametrize("chain", RECREATED)
def test_a_recreated_camera_has_the_noise_and_the_responses(chain: str, tmp_path: Path) -> None:
    picture, own = magnetite.chart(2400, 1600, seed=1)
    first = measure_chart(magnetite.degrade(picture, chain, seed=3).picture, own)
    camera = camera_of(first, str(tmp_path / "tone.csv"))
    assert camera.curve is not None
    np.savetxt(tmp_path / "tone.csv", camera.curve, delimiter=",")
    again = measure_chart(magnetite.degrade(picture, camera.steps, seed=53).picture, own)

    signal = np.linspace(0.01, 1, 100)
    noises = [
        np.sqrt(m.read.value**2 + signal / m.full_well.value + (m.prnu.value * signal) ** 2)
        for m in (first.main_noise, again.main_noise) if m is not None
    ]  # fmt: skip
    assert np.abs(noises[1] / noises[0] - 1).max() < 0.03
    at = np.linspace(0, 0.5, 51)
    edges = [
        np.median(
            [np.interp(at, e.edge.frequency, e.edge.mtf) for e in one.edges if e.edge], axis=0
        )
        for one in (first, again)
    ]
    assert np.abs(edges[1] - edges[0]).max() < 0.02
    stars = [np.nanmean(one.star.response, axis=0) for one in (first, again) if one.star]
    assert np.nanmax(np.abs(stars[1] - stars[0])) < 0.02
    textures = [
        np.interp(at, one.texture.frequency, one.texture.by_cross)
        for one in (first, again) if one.texture
    ]  # fmt: skip
    assert np.abs(textures[1] - textures[0]).max() < RECREATED[chain]
