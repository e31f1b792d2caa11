"""The demo's experiment: which rate keeps details readable, and does denoising first pay?"""

from __future__ import annotations

import json
from collections.abc import Sequence

#: Details count as readable at this SSIM against the clean picture.
READABLE = 0.9
CLEAN, NOISES = (
    "clean",
    {"weak noise": "gaussian-noise sd=3%", "strong noise": "gaussian-noise sd=8%"},
)
PLAIN = "as it is"
#: Restorations before coding, by name.
DENOISERS = {
    "Gaussian": "gaussian sigma=0.8px",
    "median": "median",
    "non-local means": "nl-means",
    "collaborative": "bm3d",
}
CODEC = "dct step=2%,4%,8%,16%,32%"
METRICS = "psnr", "ssim"
#: Names of all methods that the demo runs.
METHODS = {text.split()[0] for text in (*NOISES.values(), *DENOISERS.values(), CODEC, *METRICS)}


def plan_text(seed: int, references: Sequence[str]) -> str:
    """The plan of some references as a file holds it."""
    noises = "\n".join(f'"{name}" = "{chain}"' for name, chain in NOISES.items())
    treatments = "\n".join(f'"{name}" = "{chain} + {CODEC}"' for name, chain in DENOISERS.items())
    excluded = ", ".join(f'["{CLEAN}", "{name}"]' for name in DENOISERS)
    files = "".join(f"    {json.dumps(name, ensure_ascii=False)},\n" for name in references)
    return f"""\
# Which rate keeps details readable, and does denoising before coding pay?
title = "denoising before coding"
seed = {seed}
repeats = 1

[references]
files = [
{files}]
convert = "middle width=256 height=192"

[degradations]
"{CLEAN}" = "nothing"
{noises}

[treatments]
"{PLAIN}" = "{CODEC}"
{treatments}

[pairs]
exclude = [{excluded}]

[scores]
metrics = "{",".join(METRICS)}"
"""
