"""The demo's third experiment: which rate keeps veins readable on the next tray?"""

from __future__ import annotations

from magnetite.core.picture import Picture
from magnetite.core.quantities import figure
from magnetite.demo.plan import READABLE
from magnetite.experiment.guarantee import Need, guarantee
from magnetite.experiment.results import RunRows
from magnetite.synthetic.catalogue import SCENES

PLAN, RUN, FOLDER = "trays.toml", "trays", "next-trays"
CODEC = "dct step=8%,10%,11%,12%,13%,14%,16%"
#: The share of trays that is wanted, and the confidence: 22 trays can promise it, if all pass.
SHARE, CONFIDENCE = 0.9, 0.9
_SIZE, _COUNT = (192, 144), 24


def trays(seed: int) -> dict[str, Picture]:
    """Small trays of veined breccia, each of its own random numbers."""
    (scene,) = (one for one in SCENES if one.name == "veined-breccia")
    return {
        f"breccia-{number + 1:02d}": scene.picture(*_SIZE, seed + 100 + number)
        for number in range(_COUNT)
    }


def plan_text(seed: int) -> str:
    """The plan as a file holds it."""
    return f"""\
# Which rate keeps veins readable on the next tray?
title = "the next tray"
seed = {seed}

[references]
files = ["{FOLDER}/*"]

[treatments]
"coded" = "{CODEC}"

[scores]
metrics = "ssim"
"""


def sentence(rows: RunRows) -> str:
    """The coarsest guaranteed setting with its rate, or that there is none."""
    need = Need.of([f"ssim>={READABLE:g}"], SHARE, CONFIDENCE)
    table = guarantee(rows, need).frame
    sure = table[table["guaranteed"] == "yes"]
    wanted = (
        f"in at least {100 * SHARE:g} % of trays, with {100 * CONFIDENCE:g} % confidence "
        f"(SSIM of at least {READABLE:g})"
    )
    if sure.empty:
        return f"On the next tray no setting keeps veins readable {wanted}."
    last = sure.iloc[-1]
    return (
        f"On the next tray of veined breccia veins stay readable {wanted} at "
        f"{figure(float(last['bpp']))} bpp in the mean ({last['treatment']}): "
        f"{last['passed']} of {last['of']} trays do."
    )
