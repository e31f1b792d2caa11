"""Every table, interval and sentence of random runs against a second computation."""

from __future__ import annotations

import math
import re
from itertools import combinations
from typing import Any

import pandas as pd
import pytest

import witness
from magnetite.core.quantities import counted
from magnetite.experiment.results import RunRows
from magnetite.experiment.summary import tables
from magnetite.pages.answer import Answer, answers
from random_runs import random_run

METRICS = ("psnr", "mse")
RUNS = 300
#: A part of the runs each; the first is for every day.
COUNT = 25
PARTS = [0, *(pytest.param(k, marks=pytest.mark.long) for k in range(1, COUNT))]


def rows_of(records: list[witness.Row]) -> RunRows:
    return RunRows.of(pd.DataFrame(records), METRICS)


def near(value: Any, wanted: float, tolerance: float = 1e-9) -> bool:
    if value is None or math.isnan(value):
        return math.isnan(wanted)
    if math.isinf(value) or math.isinf(wanted):
        return value == wanted
    return bool(value == pytest.approx(wanted, rel=max(tolerance, 1e-9), abs=1e-9))


def interval_is(
    row: Any, names: tuple[str, str, str], wanted: tuple[float, ...], simulated: int = 0
) -> None:
    """Mean and ends; ends that rest on simulation over n references within its own error."""
    mean, low, high = (row[name] for name in names)
    assert near(mean, wanted[0])
    if low is None or math.isnan(low):
        assert math.isnan(wanted[1])
        assert math.isnan(wanted[2])
        return
    # Of two references the largest statistic has the tail of Cauchy's law.
    error = {0: 0.0, 2: 9.0, 3: 0.5}.get(simulated, 0.1)
    slack = error * (wanted[2] - wanted[1]) / 2
    assert low == pytest.approx(wanted[1], rel=1e-7, abs=slack + 1e-9)
    assert high == pytest.approx(wanted[2], rel=1e-7, abs=slack + 1e-9)


@pytest.mark.parametrize("part", PARTS)
def test_tables_are_those_of_a_second_computation(part: int) -> None:
    for seed in range(part, RUNS, COUNT):
        records = random_run(seed)
        if all(r["status"] == "failed" for r in records):
            continue
        metric = METRICS[seed // COUNT % 2]
        found = {t.name: t for t in tables(rows_of(records), ["degradation", "treatment"], metric)}
        done = [r for r in records if r["status"] == "done"]
        means_agree(found["means"].frame, done, records)
        ranking_agrees(found["ranking"].frame, records, metric)
        rates_agree(found["rates"].frame if "rates" in found else None, records, metric)
        hard, count = witness.hardest(records, records, metric)
        for row in found["references"].frame.to_dict("records"):
            assert near(row[f"mean {metric}"], hard.get(row["reference"], math.nan))
            assert row["rows"] == (count if row["reference"] in hard else 0)
        costs = witness.median_cost(records)
        if "cost" in found:
            table = found["cost"].frame.set_index("treatment")["s per megapixel"].to_dict()
            assert table == pytest.approx(costs, nan_ok=True)
        both = witness.agreement(done, *METRICS)
        if "agreement" in found:
            row = found["agreement"].frame.iloc[0]
            assert (row["Spearman"], row["least"], row["references"]) == pytest.approx(both)
        noticed_agrees(found["noticed"].frame if "noticed" in found else None, records)


def means_agree(frame: Any, done: list[witness.Row], records: list[witness.Row]) -> None:
    seen = 0
    for row in frame.to_dict("records"):
        own = [r for r in done if r["degradation"] == row["degradation"]
               and witness.label(r, records) == row["treatment"]]  # fmt: skip
        wanted = witness.nested(own, row["figure"])
        assert wanted is not None
        interval_is(row, ("mean", "95 % from", "to"), wanted[0])
        assert (row["references"], row["rows"]) == wanted[1:]
        seen += 1
    keys = {(r["degradation"], witness.label(r, records)) for r in done}
    assert seen == len(keys) * len(METRICS)


def ranking_agrees(frame: Any, records: list[witness.Row], metric: str) -> None:
    for level in dict.fromkeys(r["degradation"] for r in records if r["status"] == "done"):
        own = frame[frame["degradation"] == level]
        part = [r for r in records if r["degradation"] == level]
        wanted = witness.Ranked(part, records, metric)
        ranked = own[own["rank"].notna() & (own["verdict"] != "not compared")]
        assert ranked["treatment"].tolist() == wanted.order
        assert set(own[own["rank"].isna()]["treatment"]) == wanted.apart
        for row in own.to_dict("records"):
            if row["treatment"] in wanted.infinite:
                assert row[f"mean {metric}"] == wanted.infinite[row["treatment"]]
        for row in ranked.to_dict("records"):
            assert near(row[f"mean {metric}"], wanted.means[row["treatment"]])
            assert (row["references"], row["rows"]) == (wanted.references, len(wanted.keys))
            if row["treatment"] in wanted.against:
                ends = wanted.against[row["treatment"]]
                interval_is(row, ("minus the best", "95 % from", "to"), ends, wanted.references)
                verdict_follows(row, row["95 % from"], row["to"])


def verdict_follows(row: Any, low: float, high: float) -> None:
    """Verdict, interval and p come from one procedure."""
    if math.isnan(low):
        assert row["verdict"] == "no test: one reference"
    else:
        shown = low > 0 or high < 0
        assert row["verdict"] == ("worse" if shown else "no difference shown")
        assert (row["p"] < 0.05) == shown


def rates_agree(frame: Any, records: list[witness.Row], metric: str) -> None:
    rows = 0
    for level in dict.fromkeys(r["degradation"] for r in records if r["status"] == "done"):
        wanted = witness.Rates([r for r in records if r["degradation"] == level], records, metric)
        for name in wanted.names[1:]:
            if name not in wanted.rate and name not in wanted.gain:
                continue
            rows += 1
            own = frame[(frame["degradation"] == level) & (frame["treatment"] == name)]
            (row,) = own.to_dict("records")
            assert row["against"] == wanted.names[0]
            if name in wanted.rate:
                ends = tuple(100 * math.expm1(v) for v in wanted.rate[name])
                interval_is(row, ("BD-rate %", "95 % from", "to"), ends, wanted.rate_references)
                assert row["compared"] == wanted.compared
            if name in wanted.gain:
                names = ("gain", "gain 95 % from", "gain to")
                interval_is(row, names, wanted.gain[name], wanted.references)
                assert row["curves"] == wanted.curves
    assert rows == (0 if frame is None else len(frame))


def noticed_agrees(frame: Any, records: list[witness.Row]) -> None:
    plain = [r for r in records if r["treatment"] == "nothing"]
    if not any(r["status"] == "done" for r in plain):
        return
    count = 0
    for name in dict.fromkeys(r["degradation name"] for r in plain):
        for figure in METRICS:
            own = [r for r in plain if r["degradation name"] == name]
            wanted = witness.sensitivity(own, figure)
            if wanted is None:
                continue
            count += 1
            chosen = frame[(frame["degradation"] == name) & (frame["figure"] == figure)]
            (row,) = chosen.to_dict("records")
            got = (row["change per level"], row["spread"], row["Spearman"],
                   row["references"])  # fmt: skip
            assert all(near(a, b, 1e-7) for a, b in zip(got, wanted, strict=True))
    assert count == (0 if frame is None else len(frame))


@pytest.mark.parametrize("part", PARTS)
def test_sentences_carry_the_figures_that_they_quote(part: int) -> None:
    for seed in range(part, RUNS, COUNT):
        records = random_run(seed)
        if all(r["status"] == "failed" for r in records):
            continue
        metric = METRICS[seed // COUNT % 2]
        for one in answers(rows_of(records), metric):
            name, _, rest = one.where.partition(":")
            name = name.split(",")[0]
            part_of = [r for r in records if r["degradation name"] == name
                       and (not rest or r["degradation"] == rest.strip())]  # fmt: skip
            sentence_holds(one, part_of, records, metric)


def sentence_holds(
    one: Answer, part: list[witness.Row], records: list[witness.Row], metric: str
) -> None:
    text = one.sentence
    assert "nan" not in text
    assert "None" not in text
    if "at equal rate" in text:
        rate_sentence_holds(one, witness.Rates(part, records, metric), metric)
        return
    ranked = witness.Ranked(part, records, metric)
    if "against" in text:
        best, second = ranked.order[:2]
        assert re.findall("“(.+?)”", text) == [best, second]
        mean, low, high = ranked.against[second]
        quoted(text, [ranked.means[best], -mean, *([] if math.isnan(low) else [-high, -low])])
        assert f"over {counted(len(ranked.keys), 'degraded picture')}" in text
        every = [ranked.against[name][1:] for name in ranked.order[1:]]
        shown = all(high < 0 or low > 0 for low, high in every)
        if all(decided(*ends) for ends in every):
            assert one.verdict == ("shown" if shown else "open")
        assert ("is best" in text) == (one.verdict == "shown")
        if math.isnan(low):
            assert "no test" in one.grounds
    elif ranked.infinite:
        assert all(name in text for name in re.findall("“(.+?)”", text))
        assert one.verdict == "open"
    elif "have the same" in text:
        assert ranked.against[ranked.order[1]][0] == 0
    elif ranked.order:
        quoted(text, [ranked.means[ranked.order[0]]])


def rate_sentence_holds(one: Answer, wanted: witness.Rates, metric: str) -> None:
    sign = -1 if metric in witness.LOWER else 1
    best = max(wanted.gain, key=lambda name: sign * wanted.gain[name][0])
    gain, low, high = wanted.gain[best]
    quoted(one.sentence, [gain, *([] if math.isnan(low) else [low, high])])
    assert f"“{best}”" in one.sentence
    assert f"over {counted(wanted.curves, 'degraded picture')}" in one.sentence
    assert ("No treatment gains" in one.sentence) == (sign * gain <= 0)
    several = sign * gain > 0 and len(wanted.gain) > 1
    assert ("differences among the treatments are not tested" in one.grounds) == several
    if "% less rate" in one.sentence or "% more rate" in one.sentence:
        assert ("% less rate" in one.sentence) == (wanted.rate[best][0] < 0)
        assert f"over the {counted(wanted.compared, 'degraded picture')}" in one.sentence
        ends = [100 * math.expm1(v) for v in wanted.rate[best] if not math.isnan(v)]
        quoted(one.sentence[one.sentence.index("At equal") :], [abs(ends[0]), *ends[1:]])
    if math.isnan(low):
        assert "no test" in one.grounds
    else:
        # That nothing gains is shown where no treatment may be as good as the first.
        some = [wanted.gain[best], *(wanted.gain.values() if sign * gain <= 0 else ())]
        shown = all(low > 0 or high < 0 for _, low, high in some)
        if all(decided(low, high) for _, low, high in some):
            assert one.verdict == ("shown" if shown else "open")
        assert one.verdict == "open" or "excludes" in one.grounds


def decided(low: float, high: float) -> bool:
    """Whether an end that rests on simulation is farther from zero than its own error."""
    return math.isnan(low) or min(abs(low), abs(high)) > 0.1 * (high - low)


def quoted(text: str, values: list[float]) -> None:
    """Figures that a sentence quotes are these, in their order, to what it prints."""
    plain = text.replace("−", "-").replace("∞", "inf")
    plain = re.sub("“.+?”|95 % interval|over .*? degraded pictures?", " ", plain)
    pattern = r"(?<![\w.])[+-]?(?:\d+\.?\d*(?:e[+-]\d+)?|inf)"
    numbers = [float(n) for n in re.findall(pattern, plain)]
    assert len(numbers) >= len(values), text
    slack = 0.1 * (values[-1] - values[-2]) if len(values) > 2 else 0  # ends rest on simulation
    for k, (value, number) in enumerate(zip(values, numbers, strict=False)):
        own = slack if k >= len(values) - 2 else 0
        assert number == pytest.approx(value, rel=2e-3, abs=own + 1e-6), (text, values)


@pytest.mark.long
def test_random_runs_hold_what_they_are_to_hold() -> None:
    """The runs reach every case: a run of its own kind is there for each."""
    every = [random_run(seed) for seed in range(RUNS)]
    assert sum(len({r["reference"] for r in run}) == 1 for run in every) > 20
    assert sum(any(r["status"] == "failed" for r in run) for run in every) > 50
    assert sum(any(math.isinf(r["psnr"]) for r in run) for run in every) > 50
    assert sum(len({r["treatment name"] for r in run}) == 1 for run in every) > 20
    assert sum(any("block=16" in r["treatment"] for r in run) for run in every) > 20
    said = [one for run in every[::5] for one in answers(rows_of(run), "psnr")]
    for words in ("gains most", "No treatment gains", "is best", "is ahead", "alone", "∞"):
        assert any(words in one.sentence for one in said), words
    assert {one.verdict for one in said} == {"shown", "open", "single"}
    assert any("all 2 levels" in one.where for one in said)
    assert any(len(list(combinations(one.notes, 2))) for one in said)
