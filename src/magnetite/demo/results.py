"""Results of the demo's run for each scene."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from magnetite.core.analysis.simultaneous import Difference, simultaneous
from magnetite.core.curves.comparison import Curve, compare, rate_at
from magnetite.core.errors import InputError
from magnetite.demo.plan import CLEAN, DENOISERS, NOISES, PLAIN, READABLE
from magnetite.experiment.results import RunRows

Position = tuple[str, str]


@dataclass(frozen=True)
class SceneResult:
    """One scene: its curves by degradation and treatment, and their comparison."""

    name: str
    size: str
    activity: float | None
    #: Points of (rate, score), means over repeats, by degradation, treatment and metric.
    curves: Mapping[tuple[str, str, str], Curve]
    #: dB of PSNR at equal rate that a denoiser gains, by noise and denoiser.
    gains: Mapping[Position, float]

    @property
    def readable_rate(self) -> float | None:
        """Lowest rate, bpp, that keeps the clean picture readable; None if none measured does."""
        points = self.curves[CLEAN, PLAIN, "ssim"]
        if points[0][1] >= READABLE:
            return points[0][0]
        try:
            return rate_at(points, READABLE)
        except InputError:
            return None

    @property
    def readable_rate_words(self) -> str:
        """That rate to three digits; `≤` where even the lowest rate measured is readable."""
        rate = self.readable_rate
        if rate is None:
            return "–"
        lowest = self.curves[CLEAN, PLAIN, "ssim"][0][0]
        return f"{'≤ ' if rate == lowest else ''}{rate:#.3g}"

    def best(self, noise: str) -> tuple[str, float]:
        """The denoiser that gains most, and how much."""
        own = {name: self.gains[noise, name] for name in DENOISERS if (noise, name) in self.gains}
        if not own:
            return PLAIN, 0.0
        name = max(own, key=lambda key: own[key])
        return name, own[name]


def results_of(rows: RunRows) -> list[SceneResult]:
    """The scenes of a run, in its order."""
    found = []
    for name, group in rows.frame.groupby("reference", sort=False):
        first = group.iloc[0]
        curves = {
            (degradation, treatment, metric): _curve(own, metric)
            for (degradation, treatment), own in group.groupby(
                ["degradation name", "treatment name"], sort=False
            )
            for metric in ("psnr", "ssim")
        }
        gains = {}
        for noise in NOISES:
            for denoiser in DENOISERS:
                gain = _gain(group[group["degradation name"] == noise], denoiser)
                if gain is not None:
                    gains[noise, denoiser] = gain
        size = f"{int(first['width'])}x{int(first['height'])}"
        found.append(SceneResult(str(name), size, first["reference activity"], curves, gains))
    return found


def gains_over(results: list[SceneResult], noise: str) -> tuple[dict[str, Difference], int]:
    """Mean gain of each denoiser over the scenes that have all of them, and their number.

    The intervals hold together, so that the best denoiser may be picked.
    """
    names = [n for n in DENOISERS if any((noise, n) in r.gains for r in results)]
    table = [
        [r.gains[noise, n] for n in names]
        for r in results
        if all((noise, n) in r.gains for n in names)
    ]
    if not names or not table:
        return {}, 0
    found = simultaneous(np.array(table), np.eye(len(names)))
    return dict(zip(names, found, strict=True)), len(table)


def _curve(rows: Any, metric: str) -> Curve:
    points = rows.groupby("treatment", sort=False)[["bpp", metric]].mean().sort_values("bpp")
    return list(points.itertuples(index=False, name=None))


def _gain(rows: Any, denoiser: str) -> float | None:
    """Mean over repeats of the PSNR gained at equal rate; None where curves do not overlap."""
    gains = []
    for _, own in rows.groupby("repeat"):
        one, two = (
            _curve(own[own["treatment name"] == name], "psnr") for name in (PLAIN, denoiser)
        )
        made = compare(one, two, "higher") if one and two else None
        if made is not None and made.bd_quality is not None:
            gains.append(made.bd_quality)
    return sum(gains) / len(gains) if gains else None
