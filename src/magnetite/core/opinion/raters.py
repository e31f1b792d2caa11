"""Simulated raters, for trials of a test and of its analysis; their answers say that they are."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from magnetite.core.opinion.record import BlindTest, Trial, answers_record
from magnetite.core.opinion.scaling import JND_SD
from magnetite.core.opinion.threshold import GUESS, next_level, right_answers

#: sd of the grades of one rater about the truth, of the raters' severity, and slope of thresholds.
_GRADE_SD, _SEVERITY_SD, _SLOPE = 0.5, 0.3, 8.0
#: Perceived difference, in sd of its noise, below which there is none.
_TIE = 0.3


@dataclass(frozen=True)
class Crowd:
    """Raters of a simulation.

    Of `count` raters, the last `random` answer at random; the others do so with the chance
    `lapse`, and see `values`: of each picture, JND for pairs, grades for ratings, and for
    thresholds the chance of a right answer is that of the rms `threshold`, in dn of 8 bits.
    """

    values: Mapping[str, float]
    count: int = 20
    random: int = 0
    lapse: float = 0.02
    threshold: float = 3.0
    seed: int = 0


def simulated_answers(test: BlindTest, crowd: Crowd) -> list[dict[str, Any]]:
    """Records of answers, one for each rater, as the page writes them."""
    made = []
    for number in range(crowd.count):
        rng = np.random.default_rng([crowd.seed, number])
        lapse = 1.0 if number >= crowd.count - crowd.random else crowd.lapse
        answer = {"pairs": _pairs, "rating": _rating, "threshold": _thresholds}[test.design]
        trials = answer(test, crowd, lapse, rng)
        kind = "random" if lapse == 1 else "simulated"
        made.append(answers_record(test, f"{kind}-{number + 1}", trials, simulated=True))
    return made


def _pairs(test: BlindTest, crowd: Crowd, lapse: float, rng: np.random.Generator) -> list[Trial]:
    trials = []
    for pair in test.pairs:
        for repeat in range(test.repeats):
            left, right = pair if repeat % 2 == 0 else pair[::-1]
            seen = JND_SD * (crowd.values[left] - crowd.values[right]) + rng.normal()
            answer = "left" if seen > 0 else "right"
            if test.ties and abs(seen) < _TIE:
                answer = "tie"
            if rng.random() < lapse:
                answer = str(rng.choice(["left", "right"]))
            trials.append(Trial(left, right, answer))
    order = rng.permutation(len(trials))
    return [trials[k] for k in order]


def _rating(test: BlindTest, crowd: Crowd, lapse: float, rng: np.random.Generator) -> list[Trial]:
    severity = rng.normal(0, _SEVERITY_SD)
    trials = []
    for one in test.stimuli:
        for _ in range(test.repeats):
            grade = crowd.values[one.name] + severity + rng.normal(0, _GRADE_SD)
            if rng.random() < lapse:
                grade = float(rng.integers(1, 6))
            trials.append(Trial(one.name, "", str(min(5, max(1, round(grade))))))
    return trials


def _thresholds(
    test: BlindTest, crowd: Crowd, lapse: float, rng: np.random.Generator
) -> list[Trial]:
    trials = []
    for series in test.series.values():
        reference = test.reference_of(series[0])
        assert reference is not None
        levels = [one.rms for one in series]
        shown: list[int] = []
        right: list[bool] = []
        for _ in range(test.repeats):
            level = next_level(levels, shown, right)
            chance = float(right_answers(np.array(levels[level]), crowd.threshold, _SLOPE))
            chance = GUESS if rng.random() < lapse else chance
            correct = bool(rng.random() < chance)
            side = bool(rng.integers(0, 2))
            pair = series[level].name, reference.name
            pair = pair if side else pair[::-1]
            trials.append(Trial(*pair, "left" if side == correct else "right"))
            shown.append(level)
            right.append(correct)
    return trials


def truth_of(quality: Mapping[str, float], design: str) -> dict[str, float]:
    """Values that simulated raters see, from a figure that is higher for better pictures.

    The best picture is graded 4.9 and the worst 1.3, or lies 6 JND above it.
    """
    finite = [value for value in quality.values() if math.isfinite(value)]
    low, high = min(finite), max(finite)
    span = high - low or 1.0
    shares = {name: min(1.0, (value - low) / span) for name, value in quality.items()}
    if design == "pairs":
        return {name: 6 * share for name, share in shares.items()}
    return {name: 1.3 + 3.6 * share for name, share in shares.items()}
