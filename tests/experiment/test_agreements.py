"""Metrics against opinions: on the same pictures, and against the best of them."""

from __future__ import annotations

import math
from types import SimpleNamespace

import numpy as np
import pytest

from magnetite.core.calibrate.fitting import Estimate
from magnetite.core.opinion.agreement import agreement, steiger
from magnetite.experiment.agreements import AgreementRow, _agreements, _holm

NAMES = [f"p{k}" for k in range(20)]


def found_of(
    figures: dict[str, np.ndarray], opinions: np.ndarray
) -> tuple[dict[str, AgreementRow], list[str]]:
    """Rows by metric, and notes, of figures of pictures with these opinions."""
    values = {name: Estimate(v, v, v) for name, v in zip(NAMES, opinions, strict=True)}
    by_name = {metric: dict(zip(NAMES, own, strict=True)) for metric, own in figures.items()}
    _, rows, _, notes = _agreements(SimpleNamespace(values=values), by_name, "all", NAMES)
    return {row.metric: row for row in rows}, notes


def opinions_and_figures() -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """Opinions, and metrics that follow them well, less well and badly; psnr twice infinite."""
    rng = np.random.default_rng(5)
    y = rng.normal(3, 1, 20)
    figures = {"psnr": 30 + 4 * y + rng.normal(0, 1, 20), "ssim": y + rng.normal(0, 0.8, 20),
               "uqi": y + rng.normal(0, 2.0, 20)}  # fmt: skip
    figures["psnr"][[4, 9]] = math.inf
    return y, figures


def test_all_metrics_are_compared_on_the_pictures_that_all_have() -> None:
    y, figures = opinions_and_figures()
    rows, notes = found_of(figures, y)
    kept = np.isfinite(figures["psnr"])
    by_hand = {name: agreement(own[kept], y[kept], "higher") for name, own in figures.items()}
    best = by_hand["psnr"].predicted
    chances = _holm({
        name: steiger(by_hand[name].predicted, best, y[kept]) for name in ("ssim", "uqi")
    })  # fmt: skip
    for name, row in rows.items():
        assert row.pictures == 18
        assert row.pearson == pytest.approx(by_hand[name].pearson.value)
        assert row.spearman == pytest.approx(by_hand[name].spearman.value)
        assert (row.rmse_low, row.rmse_high) == pytest.approx(
            (by_hand[name].rmse.low, by_hand[name].rmse.high)
        )
    assert (rows["psnr"].p, rows["ssim"].p, rows["uqi"].p) == (
        None, pytest.approx(chances["ssim"]), pytest.approx(chances["uqi"])
    )  # fmt: skip
    assert chances["uqi"] < 0.05
    assert notes == ["compared on 18 of 20 pictures; left out: 2 (“psnr” is infinite)"]


def test_a_metric_of_few_figures_leaves_the_others_theirs() -> None:
    y, figures = opinions_and_figures()
    figures["psnr"] = np.where(np.arange(20) < 5, figures["psnr"], math.inf)
    figures["uqi"] = np.full(20, 0.5)
    rows, notes = found_of(figures, y)
    assert {name: row.pictures for name, row in rows.items()} == {"ssim": 20}
    assert notes == [
        "psnr: 4 pictures with a finite figure, and a mapping takes 6",
        "uqi: the figures of all 20 pictures are the same",
    ]


def test_metrics_that_share_too_few_pictures_are_not_compared() -> None:
    y, figures = opinions_and_figures()
    figures["psnr"][7:] = math.nan
    figures["ssim"][:2] = math.nan
    rows, notes = found_of(figures, y)
    assert not rows
    assert notes[-1] == (
        "4 pictures with finite figures of all metrics, and a mapping takes 6: name fewer metrics"
    )
    assert found_of({"ssim": figures["ssim"]}, np.full(20, 2.0))[1][-1] == (
        "the opinions of all 18 pictures are the same"
    )
