"""Intervals of summaries and certificates, on values of known truth drawn over and over."""

from __future__ import annotations

import math

import numpy as np
import pandas as pd
import pytest

import magnetite
from magnetite.core.analysis.statistics import nested_interval
from magnetite.core.picture import as_picture
from magnetite.experiment.common import Common
from magnetite.experiment.ranking import _ranked, against, best_set
from magnetite.experiment.rates import rates
from magnetite.experiment.results import RunRows


def means_held(references: int, repeats: int, runs: int) -> list[bool]:
    """References of mean 30, each with repeats of its own; of one reference its repeats' mean."""
    rng, held = np.random.default_rng(references), []
    for _ in range(runs):
        own = rng.normal(30, 2.0 if references > 1 else 0.0, (references, 1))
        values = own + rng.normal(0, 0.5, (references, repeats))
        found = nested_interval(values.tolist())
        held.append(found.low <= 30 <= found.high)
    return held


def skewed_held(number: int, runs: int) -> list[bool]:
    """Exponential values of mean 1."""
    rng, held = np.random.default_rng(4), []
    for _ in range(runs):
        found = nested_interval([[v] for v in rng.exponential(size=number)])
        held.append(found.low <= 1 <= found.high)
    return held


def differences_held(references: int, treatments: int, runs: int) -> list[bool]:
    """All differences of treatments that do not differ, together."""
    rng, held = np.random.default_rng(references), []
    sds = rng.uniform(0.3, 1.0, treatments)
    for _ in range(runs):
        own = rng.normal(30, 3, (references, 1))
        values = own + rng.standard_normal((references, treatments)) * sds
        found = against(values).values()
        held.append(all(one.low <= 0 <= one.high for one in found))
        assert all((one.p < 0.05) == (not one.low <= 0 <= one.high) for one in found)
    return held


def best_held(references: int, means: tuple[float, ...], runs: int) -> list[bool]:
    """Whether the sentence on the best names it, of treatments whose means are known."""
    rng, held = np.random.default_rng(references), []
    names = [f"t{k}" for k in range(len(means))]
    index = pd.MultiIndex.from_tuples(
        [(f"r{k}", "noise", 0) for k in range(references)],
        names=["reference", "degradation", "repeat"],
    )
    for _ in range(runs):
        own = rng.normal(30, 3, (references, 1)) + np.array(means)
        values = pd.DataFrame(own + 0.5 * rng.standard_normal(own.shape), index, names)
        (words,) = best_set(_ranked(Common(values, {}, {}, {}), "psnr"))
        held.append(f"“t{int(np.argmax(means))}”" in words or f"any of the {len(means)} " in words)
    return held


def rates_held(references: int, runs: int) -> list[bool]:
    """BD-rates of two codecs, 20 % and 0 % below the first on average over pictures, together.

    Every picture has a quality of its own and saves a share of its own, normal in the logarithm.
    """
    names = ["reference", "degradation", "degradation name", "repeat", "treatment",
             "treatment name", "bpp", "psnr"]  # fmt: skip
    rng, held = np.random.default_rng(references), []
    for _ in range(runs):
        rows = []
        for picture in range(references):
            level = rng.normal(40, 3)
            for codec, factor in (("one", 1.0), ("two", 0.8), ("three", 1.0)):
                saved = factor * math.exp(rng.normal(0, 0.1)) if codec != "one" else 1.0
                rows += [(f"r{picture}", "nothing", "clean", 0, f"{codec} {k}", codec,
                          saved * 2.0**-k, level - 3 * k) for k in range(5)]  # fmt: skip
        table = rates(RunRows.of(pd.DataFrame(rows, columns=names), ("psnr",)), "psnr")
        assert table is not None
        frame = table.frame.set_index("treatment")
        held.append(all(
            frame.loc[codec, "95 % from"] <= truth <= frame.loc[codec, "to"]
            for codec, truth in (("two", -20.0), ("three", 0.0))
        ))  # fmt: skip
    return held


def certificates_held(step: str, runs: int) -> list[bool]:
    """Every figure with a standard error, of a float picture: within 1.96 of what was asked."""
    gray = as_picture(np.full((96, 128), 0.5, np.float32))
    return [
        abs(finding.drawn - finding.asked) <= 1.96 * finding.standard_error
        for seed in range(runs)
        for record in magnetite.degrade(gray, step, seed=seed).certificate.steps
        for finding in record.findings
        if None not in (finding.asked, finding.drawn) and finding.standard_error
    ]


@pytest.mark.parametrize(("references", "repeats"), [(3, 2), (8, 3), (1, 6)])
def test_intervals_of_means_hold(references: int, repeats: int) -> None:
    assert 0.93 <= np.mean(means_held(references, repeats, 1000)) <= 0.97


@pytest.mark.long
def test_skewed_means_hold_better_than_students_law_alone() -> None:
    """Of exponential values Student's interval holds some 90 %."""
    assert 0.915 <= np.mean(skewed_held(20, 1500)) <= 0.97


@pytest.mark.parametrize(("references", "treatments"), [(3, 3), (5, 6), (12, 4), (20, 10)])
def test_intervals_of_all_differences_hold_together(references: int, treatments: int) -> None:
    """Under the null the picked best is "better" in 5 % of runs at most, whatever was picked."""
    assert 0.93 <= np.mean(differences_held(references, treatments, 1200)) <= 0.97


@pytest.mark.parametrize("means", [(0.0, 0.1), (0.0, 0.2, 0.4, 0.45), (0.3, 0.0, 0.0, 0.0)])
def test_the_best_is_in_the_set_that_is_named(means: tuple[float, ...]) -> None:
    assert np.mean(best_held(6, means, 150)) >= 0.95 - 2 * math.sqrt(0.95 * 0.05 / 150)
    (alone,) = best_set(_ranked(Common(pd.DataFrame(
        {"a": [30.0, 31, 33, 30], "b": [20.0, 21.1, 23, 20.2]},
        pd.MultiIndex.from_tuples([(k, "n", 0) for k in "wxyz"],
                                  names=["reference", "degradation", "repeat"]),
    ), {}, {}, {}), "psnr"))  # fmt: skip
    assert alone == "the best is “a”, with 95 % confidence"


@pytest.mark.long
@pytest.mark.parametrize("references", [3, 6])
def test_intervals_of_rates_hold_together(references: int) -> None:
    assert 0.92 <= np.mean(rates_held(references, 400)) <= 0.98


@pytest.mark.parametrize("step", ["gaussian-noise sd=4%", "salt-pepper density=0.1"])
def test_standard_errors_of_certificates_hold(step: str) -> None:
    assert 0.92 <= np.mean(certificates_held(step, 200)) <= 0.98
