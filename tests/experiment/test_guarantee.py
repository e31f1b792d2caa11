"""Guarantees: closed forms, a second computation, and simulated studies of known truth."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from scipy.stats import binom

import magnetite
from conftest import Run, write_references
from magnetite.core.analysis.guarantee import (
    lower_bound,
    pictures_needed,
    strongest,
    tolerance_bound,
)
from magnetite.experiment.guarantee import Need, drawn, guarantee
from magnetite.experiment.results import read_rows


def test_bounds_are_those_of_the_binomial_distribution() -> None:
    assert pictures_needed(0.95, 0.95) == 59
    assert pictures_needed(0.9, 0.95) == 29
    for share, confidence in itertools.product(range(2, 100, 7), range(1, 100, 4)):
        counts = (n for n in itertools.count(1) if 100 ** (n - 1) * (100 - confidence) >= share**n)
        needed = next(counts)  # exact: 1 - share^n reaches the confidence
        assert pictures_needed(share / 100, confidence / 100) == needed
        settings = [(needed, needed), (needed - 1, needed - 1)]
        assert strongest(settings, share / 100, confidence / 100) == 0
    assert lower_bound(59, 59, 0.95) == pytest.approx(0.05 ** (1 / 59))
    for passed, of, confidence in ((1, 7, 0.9), (20, 25, 0.95), (59, 60, 0.8)):
        bound = lower_bound(passed, of, confidence)
        # The share at which so many or more pass in 1 - confidence of all studies.
        assert binom.sf(passed - 1, of, bound) == pytest.approx(1 - confidence)
    assert lower_bound(0, 9, 0.9) == 0


def test_tolerance_bounds_are_order_statistics() -> None:
    values = list(np.random.default_rng(0).normal(size=100))
    for share, confidence in ((0.9, 0.95), (0.95, 0.9), (0.5, 0.99)):
        ranks = [r for r in range(1, 101)
                 if 1 - binom.cdf(r - 1, 100, 1 - share) >= confidence]  # fmt: skip
        wanted = sorted(values)[ranks[-1] - 1] if ranks else None
        assert tolerance_bound(values, share, confidence) == wanted
    assert tolerance_bound(values[:58], 0.95, 0.95) is None
    assert tolerance_bound(values[:59], 0.95, 0.95) == min(values[:59])
    assert tolerance_bound([math.inf] * 59, 0.95, 0.95) == math.inf


def test_a_sequence_ends_at_its_first_failure() -> None:
    good, bad = (60, 60), (50, 60)
    assert strongest([good, good, bad, good], 0.95, 0.9) == 1
    assert strongest([bad, good], 0.95, 0.9) is None
    assert strongest([], 0.95, 0.9) is None


#: Draws of a score of mean 0 and spread 1, and the share of it above a level.
SCORES: dict[str, Callable[[np.random.Generator, int], np.ndarray]] = {
    "normal": lambda rng, n: rng.normal(size=n),
    "skewed": lambda rng, n: 1 - rng.exponential(size=n),
    "discrete": lambda rng, n: rng.integers(-2, 3, n) / 1.4,
    "mixed": lambda rng, n: np.where(rng.random(n) < 0.3, -2.0, rng.normal(0.5, 0.3, n)),
}


def kept(kind: str, references: int, studies: int, share: float, confidence: float) -> float:
    """Share of studies whose chosen setting, and whose tolerance bound, are as promised."""
    truth = SCORES[kind](np.random.default_rng(1), 200_000)
    losses = np.linspace(0, 4, 12)  # settings, each worse by this than the one without loss
    held = 0
    for seed in range(studies):
        scores = SCORES[kind](np.random.default_rng([seed, references]), references)
        counts = [(int((scores - loss >= -2.5).sum()), references) for loss in losses]
        last = strongest(counts, share, confidence)
        held += last is None or float((truth - losses[last] >= -2.5).mean()) >= share
        bound = tolerance_bound(scores.tolist(), share, confidence)
        held += bound is None or float((truth >= bound).mean()) >= share
    return held / (2 * studies)


@pytest.mark.parametrize("kind", SCORES)
def test_a_few_studies_keep_their_promise(kind: str) -> None:
    assert kept(kind, 30, 60, 0.8, 0.9) >= 0.85


@pytest.mark.long
@pytest.mark.parametrize("references", [10, 30, 60, 200])
@pytest.mark.parametrize("kind", SCORES)
def test_two_thousand_studies_keep_their_promise(kind: str, references: int) -> None:
    for share, confidence in ((0.8, 0.9), (0.95, 0.9), (0.9, 0.95)):
        error = math.sqrt(confidence * (1 - confidence) / 2000)
        assert kept(kind, references, 2000, share, confidence) >= confidence - 2 * error


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    tmp_path = tmp_path_factory.mktemp("made")
    write_references(tmp_path / "refs", 9)
    (tmp_path / "plan.toml").write_text(
        '[references]\nfiles = ["refs/*.png"]\nrepeats = 2\n[degradations]\n'
        'noisy = "gaussian-noise sd=1%,3%,9%"\n[treatments]\ncoded = "pcm bits=2,4,6,8"\n'
        'nothing = "nothing"\n[scores]\nmetrics = "psnr,mae"\ngauges = "sd"\n'.replace(
            "repeats = 2\n", ""
        )
    )
    text = (tmp_path / "plan.toml").read_text()
    (tmp_path / "plan.toml").write_text("repeats = 2\n" + text)
    magnetite.run(tmp_path / "plan.toml", tmp_path / "run", workers=1)
    return tmp_path


def each_differs(met: pd.Series, scores: pd.DataFrame) -> bool:
    """Whether a reference meets the need with one repeat and misses it with the other."""
    groups = scores.assign(met=met).groupby(["degradation", "treatment", "reference"])["met"]
    return bool((groups.any() & ~groups.all()).any())


def test_the_table_is_that_of_a_second_computation(run: Run, folder: Path) -> None:
    scores = pd.read_csv(folder / "run" / "scores.csv")
    # One row has exactly the score that is needed, and the other repeat of it more.
    level = scores[scores["degradation"] == "gaussian-noise sd=9%"]
    pairs = level.groupby(["treatment", "reference"])
    edge = float(pairs["psnr"].min().median())
    edge = float(level["psnr"][(level["psnr"] - edge).abs().idxmin()])
    milder = scores[scores["degradation"] == "gaussian-noise sd=3%"]["mae"]
    most = float(milder.iloc[(milder - milder.median()).abs().argmin()])
    needs = ("--need", f"psnr>={edge!r}", "--need", f"mae<={most!r}", "--need", "sd>=20")
    done = run("summarize", "run", "--table", "guarantee", *needs, "--share", "60%",
               "--confidence", "80%", "--format", "csv")  # fmt: skip
    (folder / "t.csv").write_text(done.stdout)
    table = pd.read_csv(folder / "t.csv")
    met = (scores["psnr"] >= edge) & (scores["mae"] <= most) & (scores["sd"] >= 20)
    assert each_differs(met, scores)
    each = scores.assign(met=met).groupby(["degradation", "treatment", "reference"])
    passed = each["met"].all().groupby(level=[0, 1]).sum()
    worst, highest = each["psnr"].min(), each["mae"].max()
    assert len(table) == len(passed) == 3 * 5

    def position(row: dict[str, str]) -> tuple[str, str]:
        """Degradation and chain of a setting, whose treatment is labelled."""
        chains = scores["treatment"].unique()
        return row["degradation"], next(t for t in chains if t in row["treatment"])

    for row in table.to_dict("records"):
        key = position(row)
        assert (row["passed"], row["of"]) == (passed[key], 9)
        assert row["bound"] == pytest.approx(lower_bound(passed[key], 9, 0.8))
        own = sorted(worst[key])
        rank = max(r for r in range(10) if r == 0 or binom.sf(r - 1, 9, 0.4) >= 0.8)
        assert row["lowest psnr of 60 %"] == pytest.approx(own[rank - 1])
        assert row["highest mae of 60 %"] == pytest.approx(sorted(highest[key])[-rank])
    shown = drawn(read_rows(folder / "run"), Need.of(f"mae<={most!r}", 0.6, 0.8))
    assert sum(len(sequence.settings) for sequence in shown) == len(table)
    for sequence in shown:
        for name, line in sequence.lines[0].items():
            expected = [highest[(*position(one), int(name))] for one in sequence.settings]
            assert line.values == pytest.approx(expected)
            assert line.met == all(value <= most for value in expected)
    coded = table[table["degradation"].eq("gaussian-noise sd=1%") & table["bpp"].notna()]
    assert coded["bpp"].is_monotonic_decreasing
    guaranteed = (coded["bound"] >= 0.6).cummin().map({True: "yes", False: "no"})
    assert coded["guaranteed"].tolist() == guaranteed.tolist()
    assert {"yes", "no"} <= set(table["guaranteed"])
    assert "“nothing”: “gaussian-noise sd=1%” is the strongest of 3 settings" in done.stderr
    few = run("summarize", "run", "--table", "guarantee", "--need", "psnr>=24").stdout
    assert "9 references can promise 77.4 % at most, when all meet the need; 95 % takes 45" in few
    made = magnetite.summarize(folder / "run", "guarantee", need=["psnr>=24"], share=0.6)[0]
    assert made.frame["of"].eq(9).all()


def test_lines_are_met_where_the_table_says_so(folder: Path) -> None:
    """Infinite figures meet a bound below them; a repeat that failed meets none."""
    rows = read_rows(folder / "run")
    same = rows.frame["treatment name"].eq("nothing")
    rows.frame.loc[same, "psnr"] = math.inf
    first = rows.frame["reference"].iloc[0]
    failed = same & rows.frame["reference"].eq(first) & rows.frame["repeat"].eq(1)
    ended = replace(
        rows, frame=rows.frame[~failed],
        lost=rows.frame[failed].assign(status="failed", psnr=math.nan, mae=math.nan),
    )  # fmt: skip
    above, below = "psnr>=20", "psnr<=90"
    need = Need.of([above, below], 0.6, 0.8)
    nothing = next(one for one in drawn(ended, need) if one.name == "nothing")
    least, most = nothing.lines
    assert len(least) == 9
    assert {name: line.met for name, line in least.items()} == {
        name: name != str(first) for name in least
    }
    assert not any(line.met for line in most.values())
    assert all(line.values == [None] * 3 for line in (*least.values(), *most.values()))
    for text, passed in ((above, 8), (below, 0)):
        table = guarantee(ended, Need.of(text, 0.6, 0.8)).frame
        assert set(table[table["treatment"].str.contains("nothing")]["passed"]) == {passed}
    columns = guarantee(ended, need).frame.columns
    assert {"lowest psnr of 60 %", "highest psnr of 60 %"} <= set(columns)


@pytest.mark.parametrize(("words", "told"), [
    ((), "state one, as in --need"), (("--need", "psnr=3"), "states no bound"),
    (("--need", "uqi>=0.5"), "'uqi' is not a figure of this run"), (("--need", "x"), "not an aim"),
    (("--need", "psnr>=3", "--share", "100%"), "is 1, not between 0 and 1"),
    (("--need", "psnr>=3", "--confidence", "x"), "--confidence: "),
])  # fmt: skip
def test_needs_are_checked(run: Run, folder: Path, words: tuple[str, ...], told: str) -> None:
    assert told in run("summarize", "run", "--table", "guarantee", *words, status=2).stderr


def test_a_promise_goes_with_a_guarantee(run: Run, folder: Path) -> None:
    """The intervals of other tables are those of 95 %, whatever confidence is asked for."""
    for words in (("--share", "60%"), ("--confidence", "60%"), ("--need", "psnr>=3")):
        told = f"{words[0]} goes with --table guarantee"
        for of in ((), ("--table", "means"), ("run",)):
            assert told in run("summarize", "run", *of, *words, status=2).stderr
    for option in ("--share", "--confidence"):
        assert f"{option} goes with --need" in run("report", "run", option, "60%", status=2).stderr
    assert "go with --pictures" in run("report", "run", "--metrics", "mse", status=2).stderr
