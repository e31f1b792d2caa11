"""Mean opinion scores, and raters whose grades do not follow those of the others."""

from __future__ import annotations

import json
import math

import numpy as np
import pytest
from scipy import stats

from blind_tests import LEVELS, blind
from magnetite.core.opinion.analysis import analyse
from magnetite.core.opinion.raters import Crowd, simulated_answers
from magnetite.core.opinion.rating import mean_with_interval, opinion_scores, screened
from magnetite.core.opinion.record import Answers


def test_mean_opinions_are_those_of_students_t() -> None:
    grades = np.array([4.0, 5.0, 3.0, 4.0, 4.0])
    low, high = stats.t.interval(0.95, 4, grades.mean(), stats.sem(grades))
    found = mean_with_interval(grades)
    assert (found.value, found.low, found.high) == pytest.approx((4.0, low, high))
    same = mean_with_interval(np.array([5.0, 5.0, 5.0]))  # no proof that all raters say 5
    assert same.value == 5
    assert math.isnan(same.low)
    assert math.isnan(same.high)


def test_scores_allow_for_the_raters_who_did_not_grade_a_picture() -> None:
    """Grades that are sums of pictures and raters: the mean over all raters, and its error."""
    rng = np.random.default_rng(3)
    pictures, raters = np.linspace(2, 4, 6), rng.normal(0, 0.4, 9)
    grades = pictures + raters[:, np.newaxis]
    for one, few in zip(opinion_scores(grades)[0], grades.T, strict=True):
        assert one == mean_with_interval(few)
    missing = rng.random(grades.shape) < 0.4
    missing[:, 0] = raters > np.median(raters)  # the stern ones alone graded it
    some = np.where(missing, math.nan, grades)
    found, alike = opinion_scores(some)
    assert alike
    for k, one in enumerate(found):
        count = int((~missing[:, k]).sum())
        reach = stats.t.ppf(0.975, count - 1) * stats.sem(raters)
        assert one.value == pytest.approx(pictures[k] + raters.mean())
        assert (one.low, one.high) == pytest.approx((one.value - reach, one.value + reach))
    assert np.nanmean(some[:, 0]) < found[0].value - 0.2
    some[:, 5] = np.where(
        np.arange(9) == 2, grades[:, 5], math.nan
    )  # one grade alone has no interval, and takes none from the others
    *others, alone = opinion_scores(some)[0]
    assert math.isnan(alone.low)
    assert all(math.isfinite(one.low) for one in others)
    apart = grades.copy()  # two panels without a picture in common
    apart[:4, :3] = apart[4:, 3:] = math.nan
    found, alike = opinion_scores(apart)
    assert not alike
    assert found[0].value == pytest.approx(np.nanmean(apart[:, 0]))


def unfinished(
    raters: int, spread: float, count: int
) -> tuple[list[bool], list[float], list[float]]:
    """Ratings of 8 pictures that half of the raters leave unfinished.

    Whether each interval holds the score of all people, and the errors of the differences of
    neighbouring pictures, by the scores and by plain means.
    """
    rng = np.random.default_rng(raters)
    scores = np.linspace(1.5, 4.5, 8)

    def drawn(people: int) -> np.ndarray:
        own = rng.normal(0, spread, (people, 1)) + rng.normal(0, 0.5, (people, 8))
        return np.clip(np.rint(scores + own), 1, 5)

    truth = drawn(100_000).mean(axis=0)
    held, ours, plain = [], [], []
    for _ in range(count):
        grades = drawn(raters)
        for own in grades[: raters // 2]:
            own[rng.permutation(8)[rng.integers(1, 8) :]] = math.nan
        found, _ = opinion_scores(grades)
        held += [one.low <= true <= one.high for one, true in zip(found, truth, strict=True)]
        ours.append(float(np.std(np.diff([one.value for one in found]) - np.diff(truth))))
        plain.append(float(np.std(np.diff(np.nanmean(grades, axis=0)) - np.diff(truth))))
    return held, ours, plain


@pytest.mark.long
@pytest.mark.parametrize(("raters", "spread"), [(8, 0.6), (12, 0.8), (24, 0.5)])
def test_intervals_of_incomplete_ratings_hold(raters: int, spread: float) -> None:
    held, ours, plain = unfinished(raters, spread, 300)
    assert 0.93 <= np.mean(held) <= 0.985
    assert np.mean(ours) < np.mean(plain)


def test_ratings_are_differential_against_the_hidden_reference() -> None:
    """Each rater's own severity cancels: raters of one taste differ by nothing."""
    test = blind("rating", LEVELS[:2])
    record = simulated_answers(test, Crowd({s.name: 3.0 for s in test.stimuli}, 1))[0]
    answers = []
    for rater, severity in enumerate((0, -1, 0, -1)):
        record["rater"] = f"r{rater}"
        record["trials"] = [
            {"first": f"c0s{k}", "second": "", "answer": str(grade + severity)}
            for k, grade in enumerate((5, 4, 3))
        ]
        answers.append(Answers.of_record(json.loads(json.dumps(record)), test))
    rows = {(r.condition, r.figure): r for r in analyse(test, answers).figures}
    mean = rows[test.stimuli[2].condition, "mean opinion score"]
    differential = rows[test.stimuli[2].condition, "differential score"]
    assert mean.value == 2.5
    assert mean.high > 3
    assert (differential.value, differential.low, differential.high) == (3, None, None)


def test_screening_follows_the_recommendation() -> None:
    """Grades far from the mean both ways: a rater of BT.500's example, written out."""
    rng = np.random.default_rng(5)
    truth = np.linspace(1.5, 4.5, 40)
    grades = np.clip(np.rint(truth + 0.5 * rng.normal(size=(15, 40))), 1, 5)
    assert screened(grades) == {}
    wild = grades.copy()
    wild[3] = np.where(np.arange(40) % 2, 5, 1)
    found = screened(wild)
    assert list(found) == [3]
    mean, sd = wild.mean(axis=0), wild.std(axis=0, ddof=1)
    b2 = ((wild - mean) ** 4).mean(axis=0) / ((wild - mean) ** 2).mean(axis=0) ** 2
    reach = np.where((b2 >= 2) & (b2 <= 4), 2, np.sqrt(20)) * sd
    above, below = int((wild[3] >= mean + reach).sum()), int((wild[3] <= mean - reach).sum())
    assert found[3].startswith(f"{above + below} of 40 grades")
    shy = grades.copy()
    shy[6] = rng.permutation(shy[6])
    assert "correlate" in screened(shy)[6] or "far from" in screened(shy)[6]
