"""The demo's sentences on the next tray and on its blind test, from rows of known figures."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pandas as pd
import pytest

import magnetite
from magnetite.demo import people, trays
from magnetite.experiment.results import RunRows


def rows(passing: list[int]) -> RunRows:
    """24 trays at as many settings, of which so many reach the SSIM."""
    made = [
        {"reference": f"t{tray}", "degradation": "nothing", "degradation name": "nothing",
         "repeat": 0, "seed": 0, "treatment": f"dct step={4 + 4 * k}%", "treatment name": "coded",
         "status": "done", "reason": "", "bpp": 3.0 - k / 2 + tray / 100,
         "ssim": 0.95 if tray < count else 0.85}
        for k, count in enumerate(passing) for tray in range(24)
    ]  # fmt: skip
    return RunRows.of(pd.DataFrame(made), ["ssim"])


@pytest.mark.parametrize(
    ("passing", "says"),
    [
        ([24, 24, 20], "at 2.615 bpp in the mean (coded: dct step=8%): 24 of 24 trays do."),
        ([24, 23, 24], "at 3.115 bpp in the mean (coded: dct step=4%): 24 of 24 trays do."),
        ([23, 24, 24], "no setting keeps veins readable in at least 90 % of trays"),
    ],
)
def test_the_next_tray_is_promised_what_all_of_24_trays_show(passing, says) -> None:
    assert says in trays.sentence(rows(passing))


@pytest.mark.long
def test_trays_are_enough_for_the_promise_and_differ() -> None:
    found = trays.trays(0)
    assert len({picture.digest() for picture in found.values()}) == len(found)
    assert trays.SHARE ** len(found) <= 1 - trays.CONFIDENCE < trays.SHARE**20


@pytest.mark.long
def test_the_sentence_on_raters_is_that_of_their_figures(tmp_path: Path) -> None:
    picture = magnetite.scenes((96, 72))["veined-breccia"]
    magnetite.write(picture, tmp_path / "tray.png")
    said = people.asked(tmp_path / "tray.png", tmp_path, 0)
    assert people.asked(tmp_path / "tray.png", tmp_path, 0) == said  # again into the same folder
    found = magnetite.opinions(tmp_path / people.TEST, tmp_path / people.ANSWERS)
    worst = min(found.figures, key=lambda row: row.value)
    interval = f"{-worst.value:.1f} JND (95 % interval {-worst.high:.1f} to {-worst.low:.1f})"
    assert f"put {worst.condition} {interval} below the reference" in said
    assert f"{len(found.raters)} simulated raters" in said
    assert "random-16" in said
    assert "No person was asked" in said
    assert (tmp_path / people.FIGURE).exists()
    best = SimpleNamespace(metric="x", pearson=0.9, pearson_low=0.8, pearson_high=0.95)
    low = SimpleNamespace(metric="y", pearson=0.5, pearson_low=0.1, pearson_high=0.7)
    words = people.sentence(found, SimpleNamespace(rows=[low, best]))  # type: ignore[arg-type]
    assert "x 0.90 (0.80 to 0.95), y 0.50 (0.10 to 0.70)" in words
    assert np.isfinite(worst.value)
