"""The demo's second experiment: does added noise rank denoisers as two cameras do?"""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd

from magnetite.core.analysis.simultaneous import Difference, simultaneous
from magnetite.core.arrays import Float64
from magnetite.core.chain.named import every_chain
from magnetite.core.picture import Picture
from magnetite.demo.plan import DENOISERS, PLAIN
from magnetite.synthetic.catalogue import SCENES

PLAN, RUN, FOLDER = "cameras.toml", "cameras", "tiles"
CODEC = "dct step=4%"
ADDED = "added noise"
#: Noise by name, each at three strengths or levels of light.
_NOISES = {
    ADDED: "gaussian-noise sd=2%,4%,8%",
    "survey camera": "survey-camera full-well=20000e,4000e,800e",
    "pocket camera": "pocket-camera full-well=20000e,4000e,800e",
}
#: Names of the methods that the cameras add to those of the first experiment.
METHODS = {
    step.split()[0]
    for chain in every_chain()
    if any(text.startswith(chain.name) for text in _NOISES.values())
    for step in chain.steps.split(" + ")
}
#: Size of the tiles, and number of seeds that they are drawn with.
_SIZE, _SEEDS = (192, 144), 3


def tiles(seed: int) -> dict[str, Picture]:
    """Small colour references: a mosaic needs colours."""
    found: dict[str, Picture] = {}
    for number in range(_SEEDS):
        for scene in SCENES:
            picture = scene.picture(*_SIZE, seed + number)
            same = any(picture.same_samples(other) for other in found.values())
            if picture.colour == "rgb" and not same:
                found[f"{scene.name}-{number + 1}"] = picture
    return found


def plan_text(seed: int) -> str:
    """The plan as a file holds it."""
    noises = "\n".join(f'"{name}" = "{chain}"' for name, chain in _NOISES.items())
    treatments = "\n".join(f'"{name}" = "{chain} + {CODEC}"' for name, chain in DENOISERS.items())
    return f"""\
# Does added noise rank denoisers as two cameras do?
title = "denoisers on a camera's noise"
seed = {seed}

[references]
files = ["{FOLDER}/*"]

[degradations]
{noises}

[treatments]
"{PLAIN}" = "{CODEC}"
{treatments}

[scores]
metrics = "psnr"
"""


def sentence(frame: Any) -> str:
    """Whether the cameras rank the denoisers as added noise does, from the rows of the run."""
    table = gains(frame)
    names = list(DENOISERS)
    added, cameras = (
        dict(zip(names, simultaneous(part, np.eye(len(names))), strict=True))
        for part in np.hsplit(table, 2)
    )
    first, other = (max(one, key=lambda name: one[name].mean) for one in (added, cameras))
    return (
        f"With added noise {first} filtering gains most over coding as it is, "
        f"{_words(added[first])}; with the two cameras {other} filtering does, "
        f"{_words(cameras[other])} (means over {len(table)} tiles and three strengths): "
        f"{_verdict(first, other, added[first], cameras)}; {first} filtering gains "
        f"{_lost(table, names.index(first))} there."
    )


def gains(frame: Any) -> Float64:
    """dB of PSNR that each denoiser gains: a row for each reference that has all, with added
    noise first, then with the mean of the cameras.
    """
    means = frame.groupby(["reference", "degradation name", "treatment name"])["psnr"].mean()
    gained = means.unstack()[list(DENOISERS)].sub(means.unstack()[PLAIN], axis=0)
    by_noise = gained.reset_index()
    is_added = by_noise["degradation name"] == ADDED
    parts = [
        by_noise[chosen].groupby("reference")[list(DENOISERS)].mean()
        for chosen in (is_added, ~is_added)
    ]
    return np.asarray(pd.concat(parts, axis=1).dropna(), np.float64)


def _lost(table: Float64, denoiser: int) -> str:
    """How much less a denoiser gains with the cameras than with added noise."""
    count = table.shape[1] // 2
    contrast = np.eye(2 * count)[denoiser] - np.eye(2 * count)[count + denoiser]
    (less,) = simultaneous(table, contrast[np.newaxis])
    if less.mean < 0:
        return f"{-less.mean:.2f} dB more (95 % interval {-less.high:.2f} to {-less.low:.2f})"
    return f"{less.mean:.2f} dB less (95 % interval {less.low:.2f} to {less.high:.2f})"


def _words(gain: Difference) -> str:
    return f"{gain.mean:+.2f} dB (95 % interval {gain.low:+.2f} to {gain.high:+.2f})"


def _verdict(first: str, other: str, added: Difference, cameras: dict[str, Difference]) -> str:
    if not added.low > 0:
        return "no denoiser is shown to gain on added noise, and the two cannot be compared"
    if not cameras[first].low > 0:
        return (
            f"{first} filtering is not shown to gain there, so added noise does not rank "
            "denoisers as these cameras do"
        )
    if first == other:
        return "the same denoiser is first with both"
    return "another denoiser is first, though both are shown to gain"
