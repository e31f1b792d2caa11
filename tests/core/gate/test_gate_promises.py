"""Promises and intervals of gates, on made-up references whose truth is known."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
import pytest
from scipy.stats import norm

from magnetite.core.gate.fit import fit_classes

GAPS = np.array([1.5, 0.7])


class Study(NamedTuple):
    """Whether one fit's promise is kept on new references, and which intervals hold the truth."""

    kept: bool
    held: dict[str, bool]


def studies(references: int, pictures: int, alike: float, asked: float, runs: int) -> list[Study]:
    """Two normal figures; pictures of one reference correlate by `alike`."""
    found = []
    for seed in range(runs):
        rng = np.random.default_rng([seed, references, pictures])
        groups = np.repeat(np.arange(references), pictures)
        accepted = rng.random(groups.size) < 0.5
        own = rng.normal(0, math.sqrt(alike), (references, 2))
        rest = rng.normal(0, math.sqrt(1 - alike), (groups.size, 2))
        x = own[groups] + rest + GAPS * accepted[:, np.newaxis]
        fitted = fit_classes(
            {"psnr": x[:, 0].tolist(), "ssim": x[:, 1].tolist()}, accepted.tolist(),
            [f"r{group:04}" for group in groups], "test", asked,
        )  # fmt: skip
        gate, promise = fitted.gate, fitted.promise
        weights = np.array([f.weight / f.sd for f in gate.features])
        offset = gate.intercept - sum(f.weight * f.mean / f.sd for f in gate.features)
        cut = math.log(gate.threshold / (1 - gate.threshold)) - offset
        sd, gap = float(np.linalg.norm(weights)), float(weights @ GAPS)
        truths = {
            "area": norm.cdf(gap / sd / math.sqrt(2)),
            "false accepts": norm.sf(cut / sd),
            "false rejects": norm.cdf((cut - gap) / sd),
        }
        assert promise is not None
        found.append(
            Study(
                truths["false accepts"] <= promise.false_accepts,
                {name: fitted.results[name].low <= truth <= fitted.results[name].high
                 for name, truth in truths.items()},
            )
        )  # fmt: skip
    return found


@pytest.mark.long
@pytest.mark.parametrize(("references", "pictures", "alike", "asked"), [
    (10, 6, 0.5, 0.05), (30, 1, 0.0, 0.1), (60, 4, 0.5, 0.05), (120, 4, 0.5, 0.02),
])  # fmt: skip
def test_promises_are_kept_on_new_references(
    references: int, pictures: int, alike: float, asked: float
) -> None:
    found = studies(references, pictures, alike, asked, 300)
    assert np.mean([study.kept for study in found]) >= 0.9 - 0.035  # two standard errors
    for name in found[0].held:
        assert np.mean([study.held[name] for study in found]) >= 0.91, name


@pytest.mark.long
def test_a_few_promises_are_kept_on_new_references() -> None:
    found = studies(40, 3, 0.5, 0.1, 30)
    assert sum(study.kept for study in found) >= 24
    assert sum(study.held["area"] for study in found) >= 25
