"""The demo's sentence on cameras, from rows of known figures."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from scipy import stats

import magnetite
from magnetite.demo.cameras import ADDED, gains, plan_text, sentence, tiles
from magnetite.demo.plan import DENOISERS, PLAIN
from magnetite.experiment.plan_reading import read_plan

NOISES = (ADDED, "survey camera", "pocket camera")


def rows(added: dict[str, float], cameras: dict[str, float], spread: float = 0.3) -> pd.DataFrame:
    """Rows of six references, three strengths: gains about those given, which every row shares."""
    rng = np.random.default_rng(2)
    made = []
    for reference in range(6):
        for noise in NOISES:
            own = {name: rng.normal(0, spread) for name in DENOISERS}
            means = added if noise == ADDED else cameras
            shift = {"survey camera": 0.05, "pocket camera": -0.05}.get(noise, 0.0)
            for strength in range(3):
                base = 30 - 4 * strength + reference
                made.append([str(reference), noise, PLAIN, base])
                made += [
                    [str(reference), noise, name, base + means[name] + own[name] + shift]
                    for name in DENOISERS
                ]
    titles = ["reference", "degradation name", "treatment name", "psnr"]
    return pd.DataFrame(made, columns=titles).sample(frac=1, random_state=4)


GAINING = dict(zip(DENOISERS, (-3.0, -2.0, 2.0, 5.0), strict=True))
FLAT = dict(zip(DENOISERS, (-3.0, -2.0, 0.2, 0.15), strict=True))
OTHER = dict(zip(DENOISERS, (-3.0, -2.0, 4.0, 3.0), strict=True))


@pytest.mark.parametrize(
    ("added", "cameras", "verdict"),
    [
        (GAINING, GAINING, "the same denoiser is first with both; collaborative filtering gains"),
        (GAINING, OTHER, "another denoiser is first, though both are shown to gain"),
        (GAINING, FLAT, "collaborative filtering is not shown to gain there, so added noise does"),
        (FLAT, GAINING, "no denoiser is shown to gain on added noise"),
    ],
)
def test_the_verdict_is_that_of_the_intervals(added, cameras, verdict) -> None:
    assert verdict in sentence(rows(added, cameras))


def test_gains_and_their_loss_are_paired_over_references() -> None:
    frame = rows(GAINING, OTHER)
    found = gains(frame)
    expected = np.empty((6, 8))
    for reference in range(6):
        for k, name in enumerate(DENOISERS):
            for part, noises in enumerate(([ADDED], NOISES[1:])):
                own = frame[(frame["reference"] == str(reference))
                            & frame["degradation name"].isin(noises)]  # fmt: skip
                psnr = own.groupby("treatment name")["psnr"].mean()
                expected[reference, 4 * part + k] = psnr[name] - psnr[PLAIN]
    np.testing.assert_allclose(found, expected)
    less = expected[:, 3] - expected[:, 7]
    low, high = stats.t.interval(0.95, 5, less.mean(), stats.sem(less))
    words = f"gains {less.mean():.2f} dB less (95 % interval {low:.2f} to {high:.2f}) there."
    assert sentence(frame).endswith(words)
    incomplete = frame[~((frame["reference"] == "2") & (frame["treatment name"] == "median"))]
    assert "means over 5 tiles" in sentence(incomplete)


def test_tiles_are_colour_pictures_each_once(tmp_path: Path) -> None:
    found = tiles(0)
    assert len({picture.digest() for picture in found.values()}) == len(found) == 7
    assert {picture.colour for picture in found.values()} == {"rgb"}
    (tmp_path / "tiles").mkdir()
    magnetite.write(found["veined-breccia-1"], tmp_path / "tiles" / "one.png")
    (tmp_path / "plan.toml").write_text(plan_text(3))
    plan = read_plan(tmp_path / "plan.toml")
    assert (len(plan.degradations), plan.seed) == (3, 3)
