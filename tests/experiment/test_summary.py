"""Summaries: intervals hold the truth, tests are the published ones, tables read the rows."""

from __future__ import annotations

import json
import math
import subprocess
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from scipy import stats

from conftest import PROGRAM, Run
from magnetite.core.analysis.interaction import interaction
from magnetite.core.analysis.simultaneous import simultaneous
from magnetite.core.analysis.statistics import spearman
from magnetite.experiment.ranking import Ranked, _references_wanted, ranking
from magnetite.experiment.rates import rate_curves, rates
from magnetite.experiment.results import RunRows
from magnetite.experiment.summary import cost, means, noticed
from magnetite.pages.answer import answers


def test_a_single_difference_has_students_law() -> None:
    rng = np.random.default_rng(1)
    values = rng.normal(0, 1, (12, 2))
    (found,) = simultaneous(values, np.array([[1.0, -1.0]]))
    theirs = stats.ttest_rel(*values.T)
    assert found.p == pytest.approx(theirs.pvalue)
    assert found[1:3] == pytest.approx(tuple(theirs.confidence_interval()))
    assert all(math.isnan(v) for v in simultaneous(values[:1], np.eye(2))[0][1:])


def test_the_last_digit_is_no_difference() -> None:
    """Of equal treatments whose figures were summed in another order."""
    level = 30 + np.arange(8) / 7
    one = np.nextafter(level, 99)
    for contrasts in (np.array([[-1.0, 1.0]]), np.array([[-1.0, 1.0], [1.0, -1.0]])):
        assert {(found.mean, found.p) for found in simultaneous(np.c_[level, one], contrasts)} == {
            (0.0, 1.0)
        }
    values = np.repeat(level, 4).reshape(8, 2, 2)
    values[:, 0, 0] = one
    assert interaction(values) == 1.0


def test_ranks_agree_with_a_statistics_library() -> None:
    rng = np.random.default_rng(1)
    tied = rng.integers(0, 5, 40)
    other = tied + rng.integers(0, 3, 40)
    assert spearman(tied, other) == pytest.approx(stats.spearmanr(tied, other).statistic)
    assert np.isnan(spearman([1, 1, 1], [1, 2, 3]))


def simulated(gain: float) -> RunRows:
    """A run of known truth: treatment b is better than a by a gain, c by none."""
    rng = np.random.default_rng(2)
    rows = []
    for reference in range(8):
        level = rng.normal(30, 3)
        for degradation, loss in (("noise sd=1dn", 0.0), ("noise sd=2dn", 5.0)):
            for repeat in range(3):
                for treatment, more in (("nothing", 0.0), ("b", gain), ("c", 0.0)):
                    value = level - loss + more + rng.normal(0, 0.2)
                    position = (f"r{reference}", degradation, "noise", repeat, treatment, treatment)
                    rows.append((*position, None, value, rng.normal(0.5, 0.01)))
    names = ["reference", "degradation", "degradation name", "repeat", "treatment",
             "treatment name", "bpp", "psnr", "ssim"]  # fmt: skip
    return RunRows.of(pd.DataFrame(rows, columns=names), ("psnr", "ssim"))


def test_the_ranking_tells_what_differs_from_what_does_not() -> None:
    table = ranking(simulated(1.0), "psnr").frame.set_index("treatment")
    assert table.loc["b", "rank"] == 1
    for name in ("nothing", "c"):
        assert table.loc[name, "95 % from"] <= -1.0 <= table.loc[name, "to"]
        assert table.loc[name, "verdict"] == "worse"
    same = ranking(simulated(0.0), "psnr").frame
    assert (same["verdict"].iloc[1:] == "no difference shown").all()


def test_blind_figures_are_told() -> None:
    table = noticed(simulated(1.0)).frame.set_index("figure")
    assert table.loc["psnr", "change per level"] == pytest.approx(-5, abs=0.2)
    assert table.loc["psnr", "spread"] == pytest.approx(0.2, rel=0.3)
    assert table["verdict"].to_dict() == {"psnr": "notices it", "ssim": "blind to it"}


def test_rates_are_compared_at_equal_score() -> None:
    rows = []
    for reference in range(3):
        for name, factor, points in (("one", 1.0, 5), ("two", 0.8, 5), ("short", 0.7, 3)):
            for k in range(points):
                rows.append((f"r{reference}", "nothing", "clean", 0, f"{name} {k}", name,
                             factor * 2.0**-k, 40.0 - 3 * k, 1.0))  # fmt: skip
        for repeat in range(1 + reference):
            rows.append((f"r{reference}", "nothing", "clean", repeat, "plain", "plain", math.nan,
                         30.0 + reference + 6 * repeat, 1.0))  # fmt: skip
    names = ["reference", "degradation", "degradation name", "repeat", "treatment",
             "treatment name", "bpp", "psnr", "ssim"]  # fmt: skip
    run_rows = RunRows.of(pd.DataFrame(rows, columns=names), ("psnr", "ssim"))
    # The mean over references, of which some have more repeats.
    assert rate_curves(run_rows, "psnr").uncoded == {"plain": pytest.approx((30 + 34 + 38) / 3)}
    table = rates(run_rows, "psnr")
    assert table is not None
    assert table.notes == ("“short”: 3 curves of fewer than 4 points left out",)
    bent = run_rows.frame.copy()
    kink = (bent["reference"] == "r1") & (bent["treatment"].isin(["two 1", "two 2"]))
    bent.loc[kink, "psnr"] = [39.9, 39.8]
    (*_, said) = rates(replace(run_rows, frame=bent), "psnr").notes
    assert said == (
        "BD-rate: interpolations differ by more than 5 % on 1 of 3 pairs of curves: "
        "measure more points"
    )
    table = table.frame
    assert table["BD-rate %"].tolist() == pytest.approx([-20])
    assert table["gain"].tolist() == pytest.approx([3 * math.log2(1 / 0.8)], rel=1e-3)


def test_summaries_of_a_run(run: Run, tmp_path: Path) -> None:
    run("scenes", "trays", "--size", "96x72")
    (tmp_path / "p.toml").write_text(
        '[references]\nfiles = ["trays/[bsv]*.png"]\n'
        '[degradations]\nnoisy = "gaussian-noise sd=2%,5%"\n'
        '[treatments]\nnothing = "nothing"\nmean = "mean"\nmedian = "median"\n'
        'dct = "dct step=4%,8%,16%,30%"\n"first" = "median + dct step=4%,8%,16%,30%"\n'
        '[scores]\nmetrics = "psnr,ssim,mse"\ngauges = "noise-wavelet"\n'
    )
    run("run", "p.toml", "--workers", "1")
    text = run("summarize", "p").stdout
    for title in (
        "Means", "Ranking by psnr", "Rates at equal psnr", "Agreement of metrics",
        "References, the hardest first", "Time", "Sensitivity of the figures",
    ):  # fmt: skip
        assert f"\n{title}\n" in f"\n{text}"
    tables = json.loads(run("summarize", "p", "--format", "json").stdout)["tables"]
    rows = pd.read_csv(tmp_path / "p" / "scores.csv")
    chosen = rows[(rows["degradation"] == "gaussian-noise sd=5%") & (rows["treatment"] == "mean")]
    wanted = {"degradation": "gaussian-noise sd=5%", "treatment": "mean", "figure": "psnr"}
    (row,) = (r for r in tables["means"] if wanted.items() <= r.items())
    assert row["mean"] == pytest.approx(chosen["psnr"].mean())
    means = chosen.groupby("reference")["psnr"].mean()
    low, high = stats.t.interval(0.95, 2, means.mean(), stats.sem(means))
    assert (row["95 % from"], row["to"]) == pytest.approx((low, high))
    line = run("summarize", "p", "--table", "ranking", "--metric", "ssim", "--format", "csv").stdout
    assert line.splitlines()[0].startswith("degradation,rank,treatment,mean ssim")
    words = ["summarize", "p", "--table", "means", "--by", "treatments", "--format", "parquet"]
    written = subprocess.run([PROGRAM, *words], cwd=tmp_path, stdout=subprocess.PIPE, check=True)
    (tmp_path / "m.parquet").write_bytes(written.stdout)
    assert set(pd.read_parquet(tmp_path / "m.parquet")["treatments"]) >= {"mean", "dct"}
    for words, told in (
        (("nowhere",), "holds no run"), (("p", "--by", "colour"), "is one of reference"),
        (("p", "--metric", "vif"), "is not a figure of this run"),
        (("p", "--metric", "noise-wavelet"), "is a gauge: treatments are compared by a metric"),
        (("p", "--format", "csv"), "takes one table"),
    ):  # fmt: skip
        assert told in run("summarize", *words, status=2).stderr


def test_means_of_skewed_values_are_counted() -> None:
    """Of 24 references: even steps have no skewness, their exponentials have."""
    steps = np.linspace(-3, 3, 24)
    rows = [
        (f"r{k}", "noise", "noise", 0, treatment, treatment, 1.0, value)
        for treatment, values in (("even", 30 + steps), ("far", 30 + np.exp(steps)))
        for k, value in enumerate(values)
    ]
    names = ["reference", "degradation", "degradation name", "repeat", "treatment",
             "treatment name", "bpp", "psnr"]  # fmt: skip
    table = means(RunRows.of(pd.DataFrame(rows, columns=names), ("psnr",)), ["treatments"])
    assert table.notes == (
        "1 of 2 means are of skewed values: their intervals are Hall's, which allow for it",
    )
    low, high = stats.t.interval(0.95, 23, 30, stats.sem(steps))
    even, far = table.frame.to_dict("records")
    assert (even["95 % from"], even["to"]) == pytest.approx((low, high))
    assert far["to"] - far["mean"] > far["mean"] - far["95 % from"]


def test_a_treatment_of_which_more_than_half_failed_is_set_aside() -> None:
    from magnetite.experiment.common import complete

    for lost, kept in ((3, False), (2, True)):
        values = pd.DataFrame(
            {"a": [1.0, 2, 3, 4, 5], "b": [math.nan] * lost + [7.0] * (5 - lost)},
            index=pd.Index([f"p{k}" for k in range(5)]),
        )
        found = complete(values, {(f"p{k}", "b") for k in range(lost)})
        assert ("b" in found.values.columns) == kept
        assert len(found.values) == (5 - lost if kept else 5)


def test_references_that_would_separate_two_treatments() -> None:
    """Half the interval shrinks as the root of the number, until it is the difference."""

    def words(difference: float | None, half: float | None, references: int | None) -> str:
        ends = (None, None) if half is None else (difference - half, difference + half)
        return _references_wanted(
            Ranked(2, "b", 30.0, difference, *ends, 0.2, "open", references, 9)
        )

    assert words(0.5, 1.25, 8) == (
        "; about 50 references would separate the first two, as they differ and scatter here"
    )
    assert "; about 51 references" in words(0.5, 1.2501, 8)
    assert "; more than 1,000 references" in words(0.01, 1.25, 8)
    assert [words(*one) for one in ((0.0, 1.0, 8), (0.5, 1.0, 3), (0.5, None, 8))] == [""] * 3


def test_half_of_the_failures_are_no_majority() -> None:
    rows = simulated(1.0)
    failed = rows.frame[rows.frame["treatment"] == "b"]
    half = failed.iloc[: len(failed) // 2]
    for lost, kept, apart in ((half, failed.drop(half.index), False), (failed, half, True)):
        own = pd.concat([rows.frame[rows.frame["treatment"] != "b"], kept])
        table = ranking(replace(rows, frame=own, lost=lost), "psnr").frame
        row = table[table["treatment"] == "b"].iloc[0]
        assert (row["verdict"] == "not compared") is apart


def test_means_over_fewer_rows_are_named() -> None:
    rows = simulated(1.0)
    frame = rows.frame.copy()
    frame.loc[frame["reference"] == "r3", "ssim"] = np.nan
    table = means(replace(rows, frame=frame), ["treatment"])
    assert table.notes == (
        "ssim has no value in 18 of 144 rows: its means are over the other rows, which may be "
        "other pictures in each group",
    )
    ssim = table.frame[table.frame["figure"] == "ssim"]
    assert set(ssim["references"]) == {7}
    assert set(ssim["rows"]) == {42}
    assert not means(rows, ["treatment"]).notes


def test_the_interval_of_one_reference_is_over_its_repeats() -> None:
    """Rows of several treatments are no repeats, and their spread is no error of a mean."""
    rows = simulated(1.0)
    over = "interval over the repeats of one reference: it says nothing about others"
    unlike = means(rows, ["reference"])
    assert unlike.caption == over
    assert set(unlike.frame["references"]) == {1}
    assert unlike.frame[["95 % from", "to"]].isna().all(axis=None)
    alike = means(rows, ["reference", "degradation", "treatment"])
    assert alike.caption == over
    for _, row in alike.frame[alike.frame["figure"] == "psnr"].iterrows():
        own = rows.frame[["reference", "degradation", "label"]] == list(row[:3])
        values = rows.frame[own.all(axis=1)]["psnr"]
        reach = stats.t.ppf(0.975, len(values) - 1) * values.std() / math.sqrt(len(values))
        assert row["to"] - row["mean"] == pytest.approx(reach)
    first = rows.frame["reference"].iloc[0]
    frame = rows.frame.copy()
    frame.loc[frame["reference"] != first, "ssim"] = np.nan
    partly = means(replace(rows, frame=frame), ["treatment"])
    assert "of one reference over its repeats, which says nothing about others" in partly.caption


def test_treatments_have_labels_of_their_own() -> None:
    """Also where one is called as another's chain is written; nothing takes no time."""
    treatments = (("dct step=2%", "median"), ("dct", "dct step=2%"), ("dct", "dct step=4%"),
                  ("d", "dct step=8%"), ("plain", "nothing"))  # fmt: skip
    rows = [
        {"reference": r, "degradation": "n", "degradation name": "n", "repeat": 0, "seed": 0,
         "treatment name": name, "treatment": chain, "status": "done", "reason": None, "psnr": k,
         "width": 1000, "height": 500, "seconds treat": k + 0.5 * (r == "b")}
        for r in "abc" for k, (name, chain) in enumerate(treatments, 1)
    ]  # fmt: skip
    run_rows = RunRows.of(pd.DataFrame(rows), ["psnr"])
    labels = ["dct step=2%: median", "dct: dct step=2%", "dct step=4%", "d", "plain"]
    assert list(dict.fromkeys(run_rows.frame["label"])) == labels
    found = means(run_rows, ["treatment"]).frame
    assert found["treatment"].tolist() == labels
    assert found["mean"].tolist() == [1, 2, 3, 4, 5]
    taken = cost(run_rows).frame
    assert taken["treatment"].tolist() == labels[:-1]
    assert taken["s per megapixel"].tolist() == [2, 4, 6, 8]


def test_groups_of_rows_keep_the_order_of_the_plan() -> None:
    rows = simulated(1.0)
    turned = replace(rows, frame=rows.frame.iloc[::-1].reset_index(drop=True))
    assert [key for key, _ in turned.split(["treatment"])] == [("c",), ("b",), ("nothing",)]
    (own,) = [own for key, own in rows.split(["treatment", "repeat"]) if key == ("b", 1)]
    assert set(own.frame["treatment"]) == {"b"}
    assert len(own.frame) == 16


def test_the_answer_where_the_best_is_infinite() -> None:
    rows = simulated(1.0)
    frame = rows.frame.copy()
    frame.loc[frame["treatment"] == "b", "psnr"] = np.inf
    level = frame[(frame["degradation"] == "noise sd=1dn") & (frame["treatment"] != "b")]
    by_treatment = level.groupby("treatment")["psnr"].mean()
    (first, *_) = answers(replace(rows, frame=frame), "psnr")
    assert first.sentence == (
        "“b”: psnr ∞ on all pictures, which no test compares with others. Of the others, "
        f"“{by_treatment.idxmax()}” has the best mean: psnr {by_treatment.max():.2f} dB."
    )


def test_that_nothing_gains_is_shown_where_all_treatments_differ_from_the_first() -> None:
    rng = np.random.default_rng(0)
    rows = []
    for reference in range(6):
        swing = 3.0 if reference % 2 else -5.0
        for name, lift in (("first", 0.0), ("near", -0.5), ("wide", -1.0 + swing)):
            for k in range(5):
                score = 40.0 - 3 * k + lift + rng.normal(0, 0.01)
                rows.append((f"r{reference}", "nothing", "clean", 0, f"{name} {k}", name,
                             2.0**-k, score, 1.0))  # fmt: skip
    names = ["reference", "degradation", "degradation name", "repeat", "treatment",
             "treatment name", "bpp", "psnr", "ssim"]  # fmt: skip
    frame = pd.DataFrame(rows, columns=names)
    (alone,) = answers(
        RunRows.of(frame[frame["treatment name"] != "wide"], ("psnr", "ssim")), "psnr"
    )
    (found,) = answers(RunRows.of(frame, ("psnr", "ssim")), "psnr")
    for one, verdict in ((alone, "shown"), (found, "open")):
        assert one.sentence.startswith("No treatment gains against “first”: the nearest, “near”")
        assert one.verdict == verdict
    assert found.grounds.endswith(" Not shown to differ from “first”: “wide”.")


def test_a_treatment_is_best_where_all_others_are_shown_to_be_worse() -> None:
    rows = simulated(1.0)
    frame = rows.frame.copy()
    other = frame["treatment"] == "c"
    swing = np.where(frame["reference"].isin(["r0", "r3", "r5", "r6"]), 9.0, -11.0)
    frame.loc[other, "psnr"] += swing[other]
    for verdict, words, own in (("shown", "is best", rows.frame), ("open", "is ahead", frame)):
        (first, *_) = answers(replace(rows, frame=own), "psnr")
        assert first.sentence.startswith(f"“b” {words}")
        assert first.verdict == verdict
    assert "against “nothing”" in first.sentence
    assert first.grounds.endswith(" Not shown to be worse: “c”.")
