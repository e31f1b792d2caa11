"""Figures of blind tests, against closed forms and simulated raters of known values."""

from __future__ import annotations

import itertools
import json
import math
from dataclasses import replace

import numpy as np
import pytest
from scipy import optimize, stats

from blind_tests import LEVELS, blind
from magnetite.core.errors import InputError
from magnetite.core.opinion.analysis import analyse, wins_of
from magnetite.core.opinion.design import pairs_of, raters_for_pairs, raters_for_rating
from magnetite.core.opinion.raters import Crowd, simulated_answers
from magnetite.core.opinion.record import Answers, BlindTest, Trial
from magnetite.core.opinion.scaling import scale_intervals, scale_values
from magnetite.core.opinion.threshold import fitted_threshold, next_level, right_answers


def answered(test: BlindTest, crowd: Crowd) -> list[Answers]:
    """Answers as they are after a way through JSON."""
    records = json.loads(json.dumps(simulated_answers(test, crowd)))
    return [Answers.of_record(record, test) for record in records]


def test_two_pictures_have_the_scale_of_the_closed_form() -> None:
    """75 of 100 prefer one: a JND, by definition; Firth counts half an answer more each way."""
    wins = np.array([[0.0, 75.0], [25.0, 0.0]])
    for model, quantile in (("thurstone", stats.norm.ppf), ("bradley-terry", stats.logistic.ppf)):
        values = scale_values(wins, model)
        expected = quantile(75.5 / 101) / quantile(0.75)
        assert values[0] - values[1] == pytest.approx(expected, abs=1e-6)
    always = scale_values(np.array([[0.0, 20.0], [0.0, 0.0]]), "bradley-terry")
    assert always[0] - always[1] == pytest.approx(math.log(41) / math.log(3))


def test_scale_values_have_the_largest_penalized_likelihood() -> None:
    """A second fit: the likelihood and Jeffreys' prior as they are defined, by a general solver."""
    rng = np.random.default_rng(2)
    wins = rng.integers(0, 9, (5, 5)).astype(float)
    np.fill_diagonal(wins, 0)
    total = wins + wins.T

    def penalized(free: np.ndarray) -> float:
        values = np.append(free, 0.0)
        chance = stats.logistic.cdf(values[:, None] - values)
        weight = total * chance * (1 - chance)
        information = (np.diag(weight.sum(axis=1)) - weight)[:-1, :-1]
        return -float((wins * np.log(chance)).sum() + np.linalg.slogdet(information)[1] / 2)

    best = optimize.minimize(penalized, np.zeros(4), tol=1e-12).x
    values = scale_values(wins, "bradley-terry") * math.log(3)
    np.testing.assert_allclose(values[:-1] - values[-1], best, atol=2e-4)


def held_by_scales(count: int, raters: int, spread: float) -> list[bool]:
    """Whether the interval of each scale value holds, over tests of known truth."""
    rng, test, held = np.random.default_rng(0), blind("pairs", LEVELS[:6]), []
    for seed in range(count):
        truth = {s.name: -float(rng.uniform(0, spread)) * (s.rms > 0) for s in test.stimuli}
        found = analyse(test, answered(test, Crowd(truth, raters, lapse=0, seed=seed)))
        held += [e.low <= truth[name] <= e.high for name, e in found.values.items() if truth[name]]
        assert found.values[test.stimuli[0].name].value == 0
    return held


def test_intervals_of_scale_values_hold() -> None:
    assert np.mean(held_by_scales(6, 16, 3.0)) >= 0.8


@pytest.mark.long
@pytest.mark.parametrize(("raters", "spread"), [(8, 1.0), (20, 3.0), (20, 6.0)])
def test_intervals_of_scale_values_hold_in_many_tests(raters: int, spread: float) -> None:
    assert 0.93 <= np.mean(held_by_scales(120, raters, spread)) <= 0.97


def test_raters_who_differ_widen_the_intervals() -> None:
    """Half of the raters prefer one picture always, half the other: nothing is sure."""
    one = np.array([[0.0, 9.0], [0.0, 0.0]])
    apart = scale_intervals(np.array([one, one.T] * 6))[0]
    mixed = scale_intervals(np.array([np.array([[0.0, 5.0], [4.0, 0.0]])] * 12))[0]
    assert apart.high - apart.low > 2 * (mixed.high - mixed.low)
    assert math.isnan(scale_intervals(one[np.newaxis])[0].low)
    # Each of 20 raters has answered one pair alone: hardly a draw of raters connects all pictures.
    single = np.zeros((20, 21, 21))
    for k in range(20):
        single[k, k, k + 1], single[k, k + 1, k] = 2, 1
    assert all(e.low < e.value < e.high for e in scale_intervals(single))


def test_a_cyclic_design_is_balanced_and_connected() -> None:
    names = [f"p{k}" for k in range(9)]
    for most in (9, 18, 30, 36, None):
        pairs = pairs_of(names, most)
        assert len(pairs) <= (most or 36)
        assert len({frozenset(p) for p in pairs}) == len(pairs)
        times = [sum(name in pair for pair in pairs) for name in names]
        assert max(times) == min(times)
        reached = {names[0]}
        for _ in names:
            reached |= {n for pair in pairs if set(pair) & reached for n in pair}
        assert reached == set(names)
    with pytest.raises(InputError, match="do not connect"):
        pairs_of(names, 8)


def test_raters_proposed_give_the_interval_wanted() -> None:
    """Simulation: raters who see no differences, and grades of the typical spread."""
    rng = np.random.default_rng(1)
    names = ["a", "b", "c", "d"]
    count = raters_for_pairs(pairs_of(names), 2, 0.4)
    values = []
    for _ in range(300):
        wins = np.zeros((4, 4))
        for i, j in itertools.combinations(range(4), 2):
            wins[i, j] = rng.binomial(2 * count, 0.5)
            wins[j, i] = 2 * count - wins[i, j]
        values.append(scale_values(wins, "bradley-terry"))
    assert 1.96 * np.std(values) == pytest.approx(0.4, rel=0.12)
    assert 1.96 * 0.8 / math.sqrt(raters_for_rating(0.2)) == pytest.approx(0.2, rel=0.02)


@pytest.mark.filterwarnings("error")
@pytest.mark.parametrize("design", ["pairs", "rating", "threshold"])
def test_raters_may_stop_early(design: str) -> None:
    """What they answered counts, and it is said; a picture that nobody saw has no figure."""
    levels = LEVELS if design == "threshold" else LEVELS[:7]
    test = blind(design, levels)
    truth = {s.name: 4.8 - 0.45 * k for k, s in enumerate(test.stimuli)}
    records = simulated_answers(test, Crowd(truth, 6, lapse=0))
    for number, record in enumerate(records[:5]):
        record["trials"] = record["trials"][: 5 * number if design != "rating" else 7 - number // 4]
        record["complete"] = False
    records[5]["trials"] = records[5]["trials"][:7] if design == "rating" else []
    answers = [Answers.of_record(json.loads(json.dumps(one)), test) for one in records]
    found = analyse(test, answers)
    assert any("stopped after" in note for note in found.notes)
    conditions = {row.condition for row in found.figures}
    if design == "rating":
        assert any("not every rater graded every picture" in note for note in found.notes)
        assert test.stimuli[-1].condition not in conditions
        assert test.stimuli[6].condition in conditions
    else:
        assert any("files without answers: 2" in note for note in found.notes)


@pytest.mark.parametrize("design", ["pairs", "rating", "threshold"])
def test_the_rater_who_answers_at_random_is_found(design: str) -> None:
    levels = LEVELS if design == "threshold" else LEVELS[:7]
    test, caught, others = blind(design, levels, 2 if design == "rating" else 1), 0, 0
    count = 10 if design == "rating" else 5
    for seed in range(count):
        truth = {s.name: 4.8 - 0.45 * k for k, s in enumerate(test.stimuli)}
        if design == "rating":
            truth = {s.name: 4.8 - 0.5 * (k % 8) for k, s in enumerate(test.stimuli)}
        left = analyse(test, answered(test, Crowd(truth, 14, random=1, seed=seed))).left_out
        caught += "random-14" in left
        others += len(left) - ("random-14" in left)
    assert caught >= 0.9 * count
    assert others <= 0.3 * count


def test_levels_of_the_adaptive_test_are_those_of_the_posterior() -> None:
    """The posterior mean by numerical integration of the definition."""
    levels = np.geomspace(0.5, 20, 300).tolist()
    shown, right = [190, 150, 100, 120], [True, True, False, True]
    grid = np.linspace(math.log(0.5) - 0.5, math.log(20) + 0.5, 121)
    weight = np.ones_like(grid)
    for level, correct in zip(shown, right, strict=True):
        chance = 0.5 + 0.48 * stats.logistic.cdf(10 * (math.log(levels[level]) - grid))
        weight *= chance if correct else 1 - chance
    wanted = (weight * grid).sum() / weight.sum() + 0.1
    assert next_level(levels, shown, right) == np.abs(np.log(levels) - wanted).argmin()
    assert right_answers(np.array([3.0]), 3.0, 7.0)[0] == pytest.approx(0.74)


def thresholds(count: int, truth: float) -> tuple[np.ndarray, list[bool]]:
    """Errors of the logarithm of thresholds of one rater in 40 trials; whether intervals hold."""
    test, errors, held = blind("threshold", LEVELS), [], []
    for seed in range(count):
        answers = answered(test, Crowd({}, 1, lapse=0, threshold=truth, seed=seed))
        row = analyse(test, answers).figures[0]
        errors.append(math.log(row.value / truth))
        held.append(row.low <= truth <= row.high)
    return np.array(errors), held


def test_thresholds_are_found_within_10_percent_in_40_trials() -> None:
    """In most tests; the error of the others is that of 40 answers, which the interval states."""
    errors, held = thresholds(60, 3.0)
    assert np.median(np.abs(np.expm1(errors))) < 0.1
    assert abs(errors.mean()) < 0.04
    assert np.mean(held) >= 0.88


@pytest.mark.long
@pytest.mark.parametrize("truth", [1.5, 3.0, 8.0])
def test_intervals_of_thresholds_hold(truth: float) -> None:
    errors, held = thresholds(400, truth)
    assert 0.92 <= np.mean(held) <= 0.98
    assert abs(errors.mean()) < 0.03


def test_a_threshold_is_given_as_setting_and_of_several_raters() -> None:
    test = blind("threshold", LEVELS)
    answers = answered(test, Crowd({}, 12, threshold=3.0, seed=3))
    rows = {row.figure: row for row in analyse(test, answers).figures}
    assert rows["threshold"].value == pytest.approx(3.0, rel=0.1)
    assert rows["setting at the threshold"].value == pytest.approx(
        rows["threshold"].value, rel=0.02
    )
    (function,) = analyse(test, answers).functions
    assert function.shown.sum() == 12 * 40
    assert function.right.sum() == sum(_of(one, test)[1].sum() for one in answers)
    assert function.threshold == pytest.approx(3.0, rel=0.1)
    fits = [fitted_threshold(*_of(one, test))[0] for one in answers]
    assert rows["threshold"].value == pytest.approx(stats.gmean(fits), rel=1e-6)
    half = stats.t.ppf(0.975, 11) * stats.sem(np.log(fits))
    assert math.log(rows["threshold"].high / rows["threshold"].value) == pytest.approx(half)
    assert "rate at the threshold" not in rows
    lacking = [replace(s, rate=s.rms if k != 3 else None) for k, s in enumerate(test.stimuli)]
    some = analyse(replace(test, stimuli=tuple(lacking)), answers).figures
    assert "rate at the threshold" not in {row.figure for row in some}
    rated = [replace(s, rate=s.rms) for s in test.stimuli]
    rows = {r.figure: r for r in analyse(replace(test, stimuli=tuple(rated)), answers).figures}
    assert rows["rate at the threshold"].value == pytest.approx(rows["threshold"].value, rel=0.02)
    falling = [replace(s, rate=10 / s.rms if s.rms else None) for s in test.stimuli]
    rows = {r.figure: r for r in analyse(replace(test, stimuli=tuple(falling)), answers).figures}
    rate, level = rows["rate at the threshold"], rows["threshold"]
    assert (rate.low, rate.high) == pytest.approx((10 / level.high, 10 / level.low), rel=0.03)


def test_thresholds_over_different_raters_are_named() -> None:
    test = blind("threshold", LEVELS, contents=2)
    truth = {s.name: 3.0 for s in test.stimuli}
    records = simulated_answers(test, Crowd(truth, 3, lapse=0))
    for stopped in (False, True):
        if stopped:
            records[1]["trials"] = [t for t in records[1]["trials"] if "c0" in t["first"]]
        answers = [Answers.of_record(json.loads(json.dumps(one)), test) for one in records]
        notes = analyse(test, answers).notes
        assert any("are over different raters" in note for note in notes) == stopped


def test_an_end_of_an_interval_beyond_the_levels_is_not_their_end() -> None:
    test = blind("threshold", LEVELS)
    for threshold, lacking in ((0.9 * LEVELS[-1], "high"), (1.1 * LEVELS[0], "low")):
        found = analyse(test, answered(test, Crowd({}, 3, threshold=threshold, seed=2)))
        rows = {row.figure: row for row in found.figures}
        level, setting = rows["threshold"], rows["setting at the threshold"]
        assert not LEVELS[0] <= getattr(level, lacking) <= LEVELS[-1]
        assert getattr(setting, lacking) is None
        other = {"high": "low", "low": "high"}[lacking]
        assert getattr(setting, other) == pytest.approx(getattr(level, other), rel=0.02)
        assert any("extends beyond the levels shown" in note for note in found.notes)


def _of(answers: Answers, test: BlindTest) -> tuple[np.ndarray, np.ndarray]:
    rms = {s.name: s.rms for s in test.stimuli}
    levels = [max(rms[t.first], rms[t.second]) for t in answers.trials]
    right = [float((rms[t.first] > 0) == (t.answer == "left")) for t in answers.trials]
    return np.array(levels), np.array(right)


def test_a_tie_is_half_a_win_for_each() -> None:
    test = blind("pairs", LEVELS[:2], ties=True)
    trials = [Trial("c0s0", "c0s1", "tie"), Trial("c0s1", "c0s0", "left"),
              Trial("c0s2", "c0s0", "right")]  # fmt: skip
    wins = wins_of(Answers("r", False, True, tuple(trials)), test.stimuli)
    assert wins.tolist() == [[0, 0.5, 1], [1.5, 0, 0], [0, 0, 0]]
    crowd = Crowd({s.name: 0.0 for s in test.stimuli}, 3, lapse=0)
    assert any(t.answer == "tie" for one in answered(test, crowd) for t in one.trials)


def test_answers_that_do_not_belong_are_refused() -> None:
    test = blind("pairs", LEVELS[:3])
    record = simulated_answers(test, Crowd({s.name: 0.0 for s in test.stimuli}, 1))[0]

    def altered(**more: object) -> dict[str, object]:
        return json.loads(json.dumps(record | more))

    trial = dict(record["trials"][0])
    for wrong, says in (
        ({"kind": "x"}, "not answers"),
        ({"test": "0"}, "another test"),
        ({"pictures": {}}, "not those of the test"),
        ({"trials": None}, "rater or trials"),
        ({"trials": [{}]}, "trial 1 lacks"),
        ({"trials": [trial | {"first": "z"}]}, "unknown picture"),
        ({"trials": [trial | {"answer": "tie"}]}, "not one of left, right"),
        ({"trials": [trial | {"second": trial["first"]}]}, "not a pair of the test"),
        ({"rater": 3}, "rater or trials"),
    ):
        with pytest.raises(InputError, match=says):
            Answers.of_record(altered(**wrong), test)
    good = Answers.of_record(record, test)
    with pytest.raises(InputError, match="there twice"):
        analyse(test, [good, good])
    changed = json.loads(json.dumps(test.as_record()))
    assert BlindTest.of_record(changed) == test
    changed["stimuli"][1]["rms"] += 1
    with pytest.raises(InputError, match="its digest differs"):
        BlindTest.of_record(changed)
    for key, value in (("design", "x"), ("stimuli", []), ("repeats", True), ("pairs", [["a", "b"]]),
                       ("width", -1), ("pixels_per_degree", math.inf)):  # fmt: skip
        with pytest.raises(InputError, match=r"is damaged|digest differs"):
            BlindTest.of_record(test.as_record() | {key: value})
