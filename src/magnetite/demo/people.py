"""The demo's blind test: simulated raters, and the agreement of metrics with them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from magnetite.core.opinion.analysis import Opinions
from magnetite.experiment.agreements import Compared, compared
from magnetite.experiment.opinions import opinions, raters
from magnetite.pages.blind_test import ask
from magnetite.views.opinions import opinions_figure
from magnetite.views.style import save

#: Folders of the test and of its answers, and the figure of both.
TEST, ANSWERS, FIGURE = "blind-test", "answers", "opinions.png"
STEPS = ("dct step=4%,8%,16%", "gaussian-noise sd=2%,4%,8%")
METRICS, SEEN = "psnr,ssim,gmsd", "ssim"
_COUNT, _RANDOM = 16, 1
#: Names of the methods that the test takes.
METHODS = {text.split()[0] for text in (*STEPS, *METRICS.split(","))}


def asked(picture: Path, folder: Path, seed: int) -> str:
    """Write a test of pairs, let simulated raters answer it, and state the result."""
    ask(picture, folder / TEST, design="pairs", steps=STEPS, size=(192, 144), seed=seed)
    raters(folder / TEST, folder / ANSWERS, count=_COUNT, random=_RANDOM, by=SEEN, seed=seed)
    found = opinions(folder / TEST, folder / ANSWERS)
    made = compared(found, folder / TEST, METRICS)
    save(opinions_figure(found, made), folder / FIGURE)
    return sentence(found, made)


def sentence(found: Opinions, made: Compared) -> str:
    """The raters, the worst picture on their scale, and the metric that follows them."""
    worst = min(found.figures, key=lambda row: row.value)
    left_out = ", ".join(f"{name} ({why})" for name, why in found.left_out.items()) or "nobody"
    follow = ", ".join(
        f"{row.metric} {row.pearson:.2f} ({row.pearson_low:.2f} to {row.pearson_high:.2f})"
        for row in sorted(made.rows, key=lambda row: -row.pearson)
    )
    return (
        f"In a blind test of pairs {len(found.raters)} simulated raters, who see {SEEN} by design, "
        f"put {worst.condition} {_jnd(worst)} below the reference; left out: {left_out}. Metrics "
        f"follow their scale values with a correlation of {follow}. No person was asked: "
        f"{TEST}/ask.html asks people."
    )


def _jnd(row: Any) -> str:
    low, high = -row.high, -row.low
    return f"{-row.value:.1f} JND (95 % interval {low:.1f} to {high:.1f})"
